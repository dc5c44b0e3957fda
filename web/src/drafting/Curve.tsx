import { Box, chakra } from "@chakra-ui/react";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../api/client";
import { plural } from "../marks/words";

const w = 400;
const h = 76;

/** From short to tight: fewer rules open more than was seen. Arrow keys move. */
export function Curve({
  curve,
  balance,
  choose,
}: {
  curve: Schemas["PathPoint"][];
  balance: number;
  choose: (balance: number) => void;
}) {
  // Short first. Points that come to the same are one.
  const points = [...curve]
    .sort((a, b) => b.balance - a.balance)
    .filter(
      (p, i, all) =>
        p.balance === balance ||
        !all.some(
          (q, j) => j !== i && q.rules === p.rules && q.opened === p.opened && (q.balance === balance || j < i),
        ),
    );
  const top = Math.max(...points.map((p) => p.opened));
  const x = (i: number) => 14 + (i * (w - 40)) / Math.max(1, points.length - 1);
  const y = (p: Schemas["PathPoint"]) => h - 8 - ((p.opened - 1) / Math.max(0.01, top - 1)) * (h - 32);
  const at = Math.max(
    0,
    points.findIndex((p) => p.balance === balance),
  );
  const here = points[at]!;
  const keys = (e: KeyboardEvent) => {
    const next = points[at + (e.key === "ArrowRight" ? 1 : e.key === "ArrowLeft" ? -1 : 0)];
    if (next && next !== here) {
      e.preventDefault();
      choose(next.balance);
    }
  };
  return (
    <Box px="16px" mt="4px">
      <chakra.svg
        viewBox={`0 0 ${w} ${h + 14}`}
        width="100%"
        maxH="100px"
        tabIndex={0}
        role="slider"
        aria-label="balance from short to tight"
        aria-valuemin={0}
        aria-valuemax={points.length - 1}
        aria-valuenow={at}
        aria-valuetext={`${plural(here.rules, "rule")} open ${here.opened.toFixed(1)} times what was seen`}
        onKeyDown={keys}
        color="ink"
        fontSize="11px"
      >
        <chakra.path d={`M10 6V${h - 2}H${w - 8}`} fill="none" stroke="line" />
        <path
          d={points.map((p, i) => `${i ? "L" : "M"}${x(i)} ${y(p)}`).join("")}
          fill="none"
          stroke="currentColor"
          strokeWidth="1.4"
        />
        {points.map((p, i) => (
          <chakra.circle
            key={p.balance}
            cx={x(i)}
            cy={y(p)}
            r={i === at ? 6 : 3.5}
            fill={i === at ? "accent" : "sheet"}
            stroke={i === at ? "accent" : "ink"}
            strokeWidth="1.4"
            cursor="pointer"
            onClick={() => choose(p.balance)}
          >
            <title>{`${plural(p.rules, "rule")} open ${p.opened.toFixed(1)} × what was seen`}</title>
          </chakra.circle>
        ))}
        <chakra.text x={Math.min(Math.max(14, x(at) - 8), w - 190)} y={11} fill="accent" fontWeight="600">
          {plural(here.rules, "rule")} open {here.opened.toFixed(1)} × what was seen
        </chakra.text>
        <chakra.text x="10" y={h + 11} fill="soft">
          short: {plural(points[0]!.rules, "rule")}
        </chakra.text>
        <chakra.text x={w - 8} y={h + 11} fill="soft" textAnchor="end">
          tight: {plural(points.at(-1)!.rules, "rule")}
        </chakra.text>
      </chakra.svg>
    </Box>
  );
}
