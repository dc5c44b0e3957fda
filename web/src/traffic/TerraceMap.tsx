// The terrace map: where does traffic cross a boundary that should hold?
// Columns are divided by walls; rows step down like terraces; what pierces a
// wall is a gate. Nothing is dragged: the layout follows from the data.
import { chakra } from "@chakra-ui/react";

import { plural } from "../marks/words";
import { type Pick, pathOf } from "./passages";
import { Choice } from "./Choice";
import {
  called,
  clip,
  head,
  lanesOf,
  laneWidth,
  type Part,
  short,
  stepOf,
  sum,
  type Terrace,
  top,
  wall,
  width,
} from "./terraces";
import { Channels, Edge, Wall } from "./Passing";

export function TerraceMap({ map, picked, pick }: { map: Terrace; picked: string[]; pick: Pick }) {
  const k = Math.max(1, map.columns.length);
  const rows = Math.max(1, map.rows.length);
  const tall = Math.max(26, Math.min(56, 232 / rows));
  const step = stepOf(rows);
  const names = Math.max(...map.rows.map((r) => clip(called(r), 14).length), 4) * 5.7 + (tall > 28 ? 14 : 54);
  const wide = (width - (k - 1) * wall) / k;
  const floor = top + head + rows * tall;
  const height = floor + 22;
  const left = (i: number) => i * (wide + wall);
  return (
    <chakra.svg
      viewBox={`-1 0 ${width + 2} ${height}`}
      width="100%"
      display="block"
      fontSize="10.5px"
      role="group"
      aria-label="the terrace map; the same stands in its table"
    >
      <Choice
        label="outside: show its traffic"
        on={picked.includes(touching("~outside")[0]!)}
        act={() => pick(touching("~outside"))}
      >
        <chakra.rect width={`${width}px`} height={`${top - 3}px`} fill="line2" />
        <chakra.rect
          className="lit"
          x="1px"
          y="1px"
          width={`${width - 2}px`}
          height={`${top - 5}px`}
          fill="none"
          stroke="accent"
        />
        <text x="8" y="13" fill="currentColor">
          Outside
        </text>
      </Choice>
      <Choice
        label={`${plural(map.unplaced, "workload")} without a plot: show their traffic`}
        on={picked.includes(touching("~nowhere")[0]!)}
        act={() => pick(touching("~nowhere"))}
      >
        <chakra.rect y={`${floor + 4}px`} width={`${width}px`} height="18px" fill="line2" />
        <chakra.rect
          className="lit"
          x="1px"
          y={`${floor + 5}px`}
          width={`${width - 2}px`}
          height="16px"
          fill="none"
          stroke="accent"
        />
        <chakra.text x="8px" y={`${floor + 17}px`} fill={map.unplaced ? "open" : "soft"}>
          {map.unplaced ? `${plural(map.unplaced, "workload")} without a plot` : "every workload has a plot"}
        </chakra.text>
      </Choice>
      {map.columns.map((c, i) => {
        const { lanes, left: unshown } = lanesOf(
          map,
          c.name,
          Math.max(2, Math.floor((wide - names - 110) / laneWidth)),
        );
        const used = Math.max(0, ...lanes.map((x) => x.lane + 1)) * laneWidth;
        return (
          <g key={c.name} transform={`translate(${left(i)} 0)`}>
            <Edge map={map} column={c.name} place="~outside" y={13} x={i === 0 ? 70 : 4} picked={picked} pick={pick} />
            <Edge
              map={map}
              column={c.name}
              place="~nowhere"
              y={floor + 17}
              x={i === 0 ? 170 : 4}
              picked={picked}
              pick={pick}
            />
            <text x={2} y={top + 13} fontWeight="600" fontSize="12" fill="currentColor">
              {called(c)}{" "}
              <chakra.tspan fontWeight="400" fill="soft" fontSize="10.5px">
                {plural(c.workloads, "workload")}
                {unshown > 0 && `; ${unshown} more channels in the table`}
              </chakra.tspan>
            </text>
            {map.rows.map((r, j) => (
              <PlotBox
                key={r.name}
                map={map}
                column={c.name}
                row={r.name}
                words={called(r)}
                names={names}
                x={j * step}
                y={top + head + j * tall}
                w={wide - (rows - 1) * step}
                h={tall}
                taken={used - (rows - 1 - j) * step}
                picked={picked}
                pick={pick}
              />
            ))}
            <Channels
              lanes={lanes}
              rows={map.rows.map((r) => r.name)}
              column={c.name}
              w={wide}
              y={top + head}
              tall={tall}
              picked={picked}
              pick={pick}
            />
          </g>
        );
      })}
      {map.columns.slice(1).map((c, i) => (
        <Wall key={c.name} map={map} index={i} x={left(i) + wide} y={top} h={floor - top} picked={picked} pick={pick} />
      ))}
    </chakra.svg>
  );
}

/** All ways from and to a place. */
const touching = (place: string) => [`${place}|||`, `||${place}|`];

function PlotBox({
  map,
  column,
  row,
  words,
  names,
  x,
  y,
  w,
  h,
  taken,
  picked,
  pick,
}: Part & {
  column: string;
  row: string;
  words: string; // what the row is called
  names: number; // the width of all names of rows
  x: number;
  y: number;
  w: number;
  h: number;
  taken: number;
}) {
  const plot = map.plots.find((p) => p.column === column && p.row === row);
  const parts = plot?.parts ?? [];
  const free = w - Math.max(0, taken) - 6;
  const room = Math.max(1, Math.floor((free - names) / 48));
  const shown = parts.slice(0, parts.length > room ? room - 1 : room);
  const path = `||${column}|${row}`;
  const empty = parts.length === 0;
  const total = parts.reduce((s, p) => s + p.workloads, 0);
  const same = map.channels.find((p) => p.clientColumn === column && p.clientRow === row && p.serverRow === row);
  return (
    <g transform={`translate(${x} ${y})`}>
      <Choice
        label={`${words} in ${column}: ${plural(total, "workload")}; show what reaches them`}
        on={picked.includes(path)}
        act={() => pick([path])}
      >
        <chakra.rect
          width={`${w}px`}
          height={`${h - 5}px`}
          fill={empty ? "transparent" : "sheet"}
          stroke="line"
          strokeDasharray={empty ? "3 3" : undefined}
        />
        <chakra.rect
          className="lit"
          width={`${w}px`}
          height={`${h - 5}px`}
          fill="none"
          stroke="accent"
          strokeWidth="1.5"
        />
        <chakra.rect y={`${h - 5}px`} width={`${w}px`} height="3px" fill="line" />
        <chakra.text x="6px" y="13px" fill="soft">
          {clip(words, 14)}
        </chakra.text>
      </Choice>
      <g pointerEvents="none">
        {shown.map((p, i) => (
          <g key={p.name} transform={`translate(${names + i * 48} 0)`}>
            <text y="13" fill="currentColor">
              {p.name.length > 8 ? `${p.name.slice(0, 7)}…` : p.name || "—"}
            </text>
            {h > 28 && <Dots n={p.workloads} open={p.open} lines={h > 44 ? 3 : h > 34 ? 2 : 1} />}
          </g>
        ))}
        {parts.length > shown.length && (
          <chakra.text x={`${names + shown.length * 48}px`} y="13px" fill="soft">
            +{parts.length - shown.length}
          </chakra.text>
        )}
      </g>
      {same && (
        <Choice
          label={`within ${words} in ${column}: ${plural(sum(same), "conversation")}`}
          on={picked.includes(pathOf(same))}
          act={() => pick([pathOf(same)])}
        >
          <chakra.text
            x={h > 28 ? "6px" : `${names - 40}px`}
            y={h > 28 ? `${h - 10}px` : "13px"}
            fill={same.counts.uncovered ? "open" : same.counts.reject ? "reject" : "soft"}
            textDecoration={picked.includes(pathOf(same)) ? "underline" : undefined}
          >
            ↻{short(sum(same))}
          </chakra.text>
        </Choice>
      )}
    </g>
  );
}

/** A dot for each workload, hollow where it is not decided; of many, a number. */
function Dots({ n: count, open, lines }: { n: number; open: number; lines: number }) {
  const room = 5 * lines;
  if (count > room) {
    return (
      <g>
        <circle cx="3.5" cy="22" r="2.9" fill="currentColor" opacity=".55" />
        <chakra.text x="9px" y="25.5px" fill="soft">
          ×{short(count)}
        </chakra.text>
        {open > 0 && lines > 1 && (
          <>
            <chakra.circle cx="3.5px" cy="31px" r="2.4px" fill="none" stroke="open" strokeWidth="1.3" />
            <chakra.text x="9px" y="34.5px" fill="open">
              ×{short(open)}
            </chakra.text>
          </>
        )}
      </g>
    );
  }
  return (
    <g>
      {Array.from({ length: count }, (_, i) => {
        const at = { cx: 3.5 + (i % 5) * 7.5, cy: 21 + Math.floor(i / 5) * 8 };
        return i >= count - open ? (
          <chakra.circle
            key={i}
            cx={`${at.cx}px`}
            cy={`${at.cy}px`}
            r="2.4px"
            fill="none"
            stroke="open"
            strokeWidth="1.3"
          />
        ) : (
          <circle key={i} {...at} r="2.9" fill="currentColor" opacity=".55" />
        );
      })}
    </g>
  );
}
