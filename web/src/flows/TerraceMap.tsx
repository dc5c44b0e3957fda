// The terrace map: where does traffic cross a boundary that should hold?
// Columns are divided by walls; rows step down like terraces; what pierces a
// wall is a gate. Nothing is dragged: the layout follows from the data.
import { Box, chakra } from "@chakra-ui/react";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../api/client";
import { Mark, type Verdict } from "../marks/Marks";
import { n, plural } from "../marks/words";
import { columnsOf, type Passage, type Pick, pathOf, placeName, verdicts } from "./passages";

type Terrace = Schemas["TerraceMap"];

const width = 1240;
const wall = 150; // between two columns, with the names of what passes
const top = 22; // the strip of what is outside
const head = 20; // names of the columns
const step = 11; // by which a terrace is set back
const gatesShown = 5;

export function TerraceMap({ map, picked, pick }: { map: Terrace; picked: string[]; pick: Pick }) {
  const k = Math.max(1, map.columns.length);
  const rows = Math.max(1, map.rows.length);
  const tall = Math.min(56, 232 / rows);
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
      <chakra.rect width={`${width}px`} height={`${top - 3}px`} fill="line2" />
      <text x="8" y="13" fill="currentColor">
        Outside
      </text>
      <chakra.rect y={`${floor + 4}px`} width={`${width}px`} height="18px" fill="line2" />
      <chakra.text x="8px" y={`${floor + 17}px`} fill={map.unplaced ? "open" : "soft"}>
        {map.unplaced ? `${plural(map.unplaced, "workload")} without a place` : "every workload has a place"}
      </chakra.text>
      {map.columns.map((c, i) => {
        const lanes = lanesOf(map, c.name);
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
              {c.name}{" "}
              <chakra.tspan fontWeight="400" fill="soft" fontSize="10.5px">
                {plural(c.workloads, "workload")}
              </chakra.tspan>
            </text>
            {map.rows.map((r, j) => (
              <PlotBox
                key={r.name}
                map={map}
                column={c.name}
                row={r.name}
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

/** Something on the map that can be chosen, with the mouse or the keyboard. */
function Choice({
  label,
  on,
  act,
  children,
}: {
  label: string;
  on: boolean;
  act: () => void;
  children: React.ReactNode;
}) {
  return (
    <chakra.g
      role="button"
      tabIndex={0}
      aria-label={label}
      aria-pressed={on}
      cursor="pointer"
      opacity={1}
      _focusVisible={{ outline: "2px solid", outlineColor: "accent" }}
      css={{ "& .lit": { opacity: on ? 1 : 0 }, "&:hover .lit": { opacity: 1 } }}
      onClick={act}
      onKeyDown={(e: KeyboardEvent) => {
        if (e.key !== "Enter" && e.key !== " ") return;
        e.preventDefault();
        act();
      }}
    >
      <title>{label}</title>
      {children}
    </chakra.g>
  );
}

type Part = { map: Terrace; picked: string[]; pick: Pick };

function PlotBox({
  map,
  column,
  row,
  x,
  y,
  w,
  h,
  taken,
  picked,
  pick,
}: Part & { column: string; row: string; x: number; y: number; w: number; h: number; taken: number }) {
  const plot = map.plots.find((p) => p.column === column && p.row === row);
  const parts = plot?.parts ?? [];
  const free = w - Math.max(0, taken) - 6;
  const room = Math.max(1, Math.floor((free - 42) / 48));
  const shown = parts.slice(0, parts.length > room ? room - 1 : room);
  const path = `||${column}|${row}`;
  const empty = parts.length === 0;
  const total = parts.reduce((s, p) => s + p.workloads, 0);
  const same = map.channels.find((p) => p.clientColumn === column && p.clientRow === row && p.serverRow === row);
  return (
    <g transform={`translate(${x} ${y})`}>
      <Choice
        label={`${row} in ${column}: ${plural(total, "workload")}; show what reaches them`}
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
          {row}
        </chakra.text>
        {shown.map((p, i) => (
          <g key={p.name} transform={`translate(${42 + i * 48} 0)`}>
            <text y="13" fill="currentColor">
              {p.name.length > 8 ? `${p.name.slice(0, 7)}…` : p.name || "—"}
            </text>
            <Dots n={p.workloads} open={p.open} lines={h > 44 ? 3 : h > 34 ? 2 : 1} />
          </g>
        ))}
        {parts.length > shown.length && (
          <chakra.text x={`${42 + shown.length * 48}px`} y="13px" fill="soft">
            +{parts.length - shown.length}
          </chakra.text>
        )}
      </Choice>
      {same && (
        <Choice
          label={`within ${row} in ${column}: ${plural(sum(same), "conversation")}`}
          on={picked.includes(pathOf(same))}
          act={() => pick([pathOf(same)])}
        >
          <chakra.text
            x="6px"
            y={`${h - 10}px`}
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

const thickness = (v: number) => Math.min(7, 1.2 + Math.log10(v + 1) * 1.5);
const sum = (p: Passage) => p.counts.permit + p.counts.reject + p.counts.uncovered;
const short = (v: number) => (v < 10_000 ? n(v) : `${n(v / 1000)}k`);
const ink: Record<Verdict, string> = { permit: "permit", reject: "reject", uncovered: "open" };

type Lane = { a: number; b: number; lane: number; ways: Passage[] };

/** Traffic between the terraces of one column: each pair of rows, both ways, in
 * a lane that nothing else uses between them. */
function lanesOf(map: Terrace, column: string): Lane[] {
  const rank = new Map(map.rows.map((r, i) => [r.name, i]));
  const pairs = new Map<string, Lane>();
  for (const p of map.channels) {
    const from = rank.get(p.clientRow);
    const to = rank.get(p.serverRow);
    if (p.clientColumn !== column || from === undefined || to === undefined || from === to) continue;
    const a = Math.min(from, to);
    const b = Math.max(from, to);
    const found = pairs.get(`${a} ${b}`);
    if (found) found.ways.push(p);
    else pairs.set(`${a} ${b}`, { a, b, lane: 0, ways: [p] });
  }
  const all = [...pairs.values()].sort((s, t) => s.b - s.a - (t.b - t.a) || s.a - t.a);
  const taken: [number, number][][] = [];
  for (const x of all) {
    while ((taken[x.lane] ?? []).some(([s, t]) => x.b > s && x.a < t)) x.lane++;
    (taken[x.lane] ??= []).push([x.a, x.b]);
  }
  return all;
}

const laneWidth = 12;

function Channels({
  lanes,
  rows,
  column,
  w,
  y,
  tall,
  picked,
  pick,
}: Omit<Part, "map"> & { lanes: Lane[]; rows: string[]; column: string; w: number; y: number; tall: number }) {
  return (
    <g>
      {lanes.map(({ a, b, lane, ways }) => {
        const x = w - 9 - lane * laneWidth;
        const y1 = y + a * tall + tall - 17;
        const y2 = y + b * tall + 12;
        const counts = { permit: 0, reject: 0, uncovered: 0 };
        for (const p of ways) for (const v of verdicts) counts[v] += p.counts[v];
        const worst: Verdict = counts.uncovered ? "uncovered" : counts.reject ? "reject" : "permit";
        const t = thickness(counts.permit + counts.reject + counts.uncovered);
        const paths = ways.map(pathOf);
        const down = ways.some((p) => p.serverRow === rows[b]);
        const up = ways.some((p) => p.serverRow === rows[a]);
        return (
          <Choice
            key={paths.join()}
            label={`in ${column}: ${ways.map((p) => `${p.clientRow} → ${p.serverRow} ${tell(p)}`).join("; ")}`}
            on={paths.some((p) => picked.includes(p))}
            act={() => pick(paths)}
          >
            <path d={`M${x} ${y1}V${y2}`} stroke="transparent" strokeWidth="12" />
            <chakra.path
              className="lit"
              d={`M${x} ${y1}V${y2}`}
              stroke="accent"
              strokeOpacity=".35"
              strokeWidth={t + 6}
            />
            {counts.permit > 0 && (
              <chakra.path
                d={`M${x} ${y1}V${y2}`}
                stroke="permit"
                strokeWidth={t}
                opacity={worst === "permit" ? 0.9 : 0.35}
              />
            )}
            {worst !== "permit" && (
              <chakra.path
                d={`M${x} ${y1}V${y2}`}
                stroke={ink[worst]}
                strokeWidth="2.2"
                strokeDasharray={worst === "uncovered" ? "2 2" : undefined}
              />
            )}
            {down && <chakra.path d={`M${x - 4.5} ${y2 - 4}h9l-4.5 6.5z`} fill={ink[worst]} />}
            {up && <chakra.path d={`M${x - 4.5} ${y1 + 4}h9l-4.5 -6.5z`} fill={ink[worst]} />}
          </Choice>
        );
      })}
    </g>
  );
}

function tell(p: Passage) {
  return verdicts
    .filter((v) => p.counts[v])
    .map((v) => `${n(p.counts[v])} ${v === "permit" ? "permitted" : v === "reject" ? "rejected" : "uncovered"}`)
    .join(", ");
}

/** A wall, and the gates that traffic has broken into it. */
function Wall({ map, index, x, y, h, picked, pick }: Part & { index: number; x: number; y: number; h: number }) {
  const names = columnsOf(map);
  const mine = map.gates.filter((p) => {
    const a = names.indexOf(p.clientColumn);
    const b = names.indexOf(p.serverColumn);
    return a >= 0 && b >= 0 && Math.max(a, b) === index + 1;
  });
  // What should not exist comes first.
  const gates = (["uncovered", "reject", "permit"] as const)
    .flatMap((v) => mine.filter((p) => p.counts[v] > 0).map((p) => ({ p, v })))
    .sort((s, t) => "urp".indexOf(s.v[0]!) - "urp".indexOf(t.v[0]!) || t.p.counts[t.v] - s.p.counts[s.v]);
  const shown = gates.slice(0, gates.length > gatesShown ? gatesShown - 1 : gatesShown);
  const slot = (h - 8) / Math.max(3, Math.min(gates.length, gatesShown));
  const middle = x + wall / 2;
  return (
    <g>
      <chakra.rect x={`${middle - 6}px`} y={`${y}px`} width="12px" height={`${h}px`} fill="volumeFaint" stroke="line" />
      {Array.from({ length: Math.floor(h / 6) }, (_, i) => (
        <chakra.path
          key={i}
          d={`M${middle - 6} ${y + i * 6}h12M${middle + (i % 2 ? -2 : 2)} ${y + i * 6}v6`}
          stroke="paper"
          strokeWidth=".8"
        />
      ))}
      {shown.map(({ p, v }, i) => {
        const cy = y + 15 + i * slot;
        const leftward = names.indexOf(p.serverColumn) < names.indexOf(p.clientColumn);
        const far = Math.abs(names.indexOf(p.serverColumn) - names.indexOf(p.clientColumn)) > 1;
        const t = thickness(p.counts[v]);
        const a = x + 14;
        const b = x + wall - 14;
        const stream = p.top.find((s) => s.verdict === v);
        const path = pathOf(p);
        return (
          <Choice
            key={path + v}
            label={`${p.clientColumn} → ${p.serverColumn}: ${n(p.counts[v])} ${v}${stream ? `, mostly ${stream.client} → ${stream.server}` : ""}`}
            on={picked.includes(`${path}&${v}`)}
            act={() => pick([path], v)}
          >
            <chakra.rect
              x={`${middle - 7}px`}
              y={`${cy - 6 - t / 2}px`}
              width="14px"
              height={`${12 + t}px`}
              fill="paper"
            />
            <chakra.path
              d={`M${middle - 8} ${cy - 6 - t / 2}h16M${middle - 8} ${cy + 6 + t / 2}h16`}
              stroke="soft"
              strokeWidth="1.4"
            />
            <chakra.rect
              className="lit"
              x={`${x + 4}px`}
              y={`${cy - 12}px`}
              width={`${wall - 8}px`}
              height={`${Math.min(slot - 2, 42)}px`}
              fill="none"
              stroke="accent"
              rx="3"
            />
            <chakra.path
              d={`M${a} ${cy}H${b}`}
              stroke={ink[v]}
              strokeWidth={t}
              strokeDasharray={v === "uncovered" ? "2.5 2" : undefined}
            />
            <chakra.path
              d={
                leftward
                  ? `M${a + 4} ${cy - 5 - t / 2}L${a - 5} ${cy}L${a + 4} ${cy + 5 + t / 2}z`
                  : `M${b - 4} ${cy - 5 - t / 2}L${b + 5} ${cy}L${b - 4} ${cy + 5 + t / 2}z`
              }
              fill={ink[v]}
            />
            <chakra.text
              x={`${middle}px`}
              y={`${cy + 9 + t / 2 + 6}px`}
              textAnchor="middle"
              fill={ink[v]}
              fontWeight="600"
              stroke="paper"
              strokeWidth="3"
              paintOrder="stroke"
            >
              {n(p.counts[v])} {v === "permit" ? "permitted" : v === "reject" ? "rejected" : "uncovered"}
              {far && ` → ${p.serverColumn}`}
            </chakra.text>
            {stream && slot > 36 && (
              <chakra.text
                x={`${middle}px`}
                y={`${cy + 21 + t / 2 + 6}px`}
                textAnchor="middle"
                fill={ink[v]}
                stroke="paper"
                strokeWidth="3"
                paintOrder="stroke"
                fontSize="9.5px"
              >
                {clip(stream.client)} → {clip(stream.server)}
              </chakra.text>
            )}
          </Choice>
        );
      })}
      {gates.length > shown.length && (
        <chakra.text
          x={`${middle}px`}
          y={`${y + h - 4}px`}
          textAnchor="middle"
          fill="soft"
          stroke="paper"
          strokeWidth="3"
          paintOrder="stroke"
        >
          and {gates.length - shown.length} more: see the table
        </chakra.text>
      )}
    </g>
  );
}

const clip = (s: string) => (s.length > 13 ? `${s.slice(0, 12)}…` : s);

/** What passes between a column and outside, or what has no place. */
function Edge({
  map,
  column,
  place,
  x,
  y,
  picked,
  pick,
}: Part & { column: string; place: string; x: number; y: number }) {
  const into = map.gates.find((p) => p.clientColumn === place && p.serverColumn === column);
  const out = map.gates.find((p) => p.clientColumn === column && p.serverColumn === place);
  let at = x;
  return (
    <g>
      {[into, out].map((p, i) => {
        if (!p) return null;
        const parts = verdicts.filter((v) => p.counts[v] > 0);
        return parts.map((v) => {
          const arrow = (place === "~outside") === (i === 0) ? "↓" : "↑";
          const text = `${arrow} ${short(p.counts[v])}`;
          const here = at;
          at += 20 + text.length * 6.4;
          const path = pathOf(p);
          return (
            <Choice
              key={path + v}
              label={`${placeName(p.clientColumn)} → ${placeName(p.serverColumn)}: ${n(p.counts[v])} ${v}`}
              on={picked.includes(`${path}&${v}`)}
              act={() => pick([path], v)}
            >
              <chakra.rect
                className="lit"
                x={`${here - 4}px`}
                y={`${y - 11}px`}
                width={`${16 + text.length * 6.4}px`}
                height="15px"
                fill="none"
                stroke="accent"
                rx="3"
              />
              <chakra.text x={`${here}px`} y={`${y}px`} fill={ink[v]} fontWeight={v === "permit" ? "400" : "600"}>
                {text}
              </chakra.text>
              <foreignObject x={here + text.length * 6.4 - 1} y={y - 10} width="11" height="12">
                <Mark kind={v} size={8} />
              </foreignObject>
            </Choice>
          );
        });
      })}
    </g>
  );
}

/** The same as a table, for those who do not see the picture. */
export function TerraceTable({ map, picked, pick }: { map: Terrace; picked: string[]; pick: Pick }) {
  const all = [...map.gates, ...map.channels].sort(
    (a, b) => b.counts.uncovered - a.counts.uncovered || b.counts.reject - a.counts.reject || sum(b) - sum(a),
  );
  return (
    <Box maxH="268px" overflowY="auto" borderWidth="1px" borderColor="line" borderRadius="5px">
      <chakra.table w="100%" fontSize="12px">
        <thead>
          <tr>
            {["From", "To", "uncovered", "reject", "permit", "Mostly"].map((h) => (
              <chakra.th
                key={h}
                textAlign="left"
                px="8px"
                py="3px"
                color="soft"
                fontWeight="500"
                position="sticky"
                top="0"
                bg="paper"
              >
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.map((p) => (
            <chakra.tr
              key={pathOf(p)}
              bg={picked.some((x) => x.startsWith(pathOf(p))) ? "tint" : undefined}
              _hover={{ bg: "tint" }}
              borderTopWidth="1px"
              borderColor="line2"
            >
              <chakra.td px="8px" py="2px">
                <chakra.button
                  type="button"
                  textDecoration="underline"
                  textDecorationColor="line"
                  onClick={() => pick([pathOf(p)])}
                >
                  {placeName(p.clientColumn)} {p.clientRow && placeName(p.clientRow)}
                </chakra.button>
              </chakra.td>
              <chakra.td px="8px">
                {placeName(p.serverColumn)} {p.serverRow && placeName(p.serverRow)}
              </chakra.td>
              {(["uncovered", "reject", "permit"] as const).map((v) => (
                <chakra.td key={v} px="8px" color={p.counts[v] ? ink[v] : "line"}>
                  {n(p.counts[v])}
                </chakra.td>
              ))}
              <chakra.td px="8px" color="soft">
                {p.top.map((s) => `${s.client} → ${s.server}`).join("; ")}
              </chakra.td>
            </chakra.tr>
          ))}
        </tbody>
      </chakra.table>
    </Box>
  );
}
