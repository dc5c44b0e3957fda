// What passes on the terrace map: through walls, along lanes, over the edge.
import { chakra } from "@chakra-ui/react";
import { Mark, type Verdict } from "../marks/Marks";
import { n } from "../marks/words";
import { columnsOf, pathOf, placeName, verdicts } from "./passages";
import { Choice } from "./Choice";
import { laneWidth, clip, gatesShown, ink, type Lane, type Part, short, tell, thickness, wall } from "./terraces";

export function Channels({
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
            label={`in ${column}: ${ways.map((p) => `${placeName(p.clientRow)} → ${placeName(p.serverRow)} ${tell(p)}`).join("; ")}`}
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

/** A wall, and the gates that traffic has broken into it. */
export function Wall({ map, index, x, y, h, picked, pick }: Part & { index: number; x: number; y: number; h: number }) {
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
            label={`${placeName(p.clientColumn)} → ${placeName(p.serverColumn)}: ${n(p.counts[v])} ${v}${stream ? `, mostly ${stream.client} → ${stream.server}` : ""}`}
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
              {far && ` → ${placeName(p.serverColumn)}`}
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

/** What passes between a column and outside, or what has no place. */
export function Edge({
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
