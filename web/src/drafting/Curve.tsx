import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { type KeyboardEvent, useState } from "react";
import type { Schemas } from "../api/client";
import { Link } from "../marks/Controls";
import { plural } from "../marks/words";

const w = 400;
const h = 76;

/**
 * From short to tight: fewer rules open more than was seen. Arrow keys move. It is one line, and
 * unfolds to the curve. `left` counts the proposals that are to be judged at a balance.
 */
export function Curve({
  curve,
  balance,
  choose,
  left,
}: {
  curve: Schemas["PathPoint"][];
  balance: number;
  choose: (balance: number) => void;
  left: (balance: number) => number;
}) {
  const [unfolded, setUnfolded] = useState(false);
  // Short first. Points that come to the same are one.
  const alike = (a: Schemas["PathPoint"], b: Schemas["PathPoint"]) =>
    left(a.balance) === left(b.balance) && a.opened.toFixed(1) === b.opened.toFixed(1);
  const points = [...curve]
    .sort((a, b) => b.balance - a.balance)
    .filter(
      (p, i, all) =>
        p.balance === balance || !all.some((q, j) => j !== i && alike(p, q) && (q.balance === balance || j < i)),
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
  const says = (p: Schemas["PathPoint"]) =>
    `${plural(left(p.balance), "proposal")}; all derived rules open ${p.opened.toFixed(1)} × what was seen`;
  const height = unfolded ? h : 12;
  const width = unfolded ? w : 24 + 26 * (points.length - 1);
  const px = (i: number) => (unfolded ? x(i) : 12 + i * 26);
  const py = (p: Schemas["PathPoint"]) => (unfolded ? y(p) : 6);
  return (
    <Box px="16px" mt="4px">
      <Flex align="center" gap="8px" fontSize="12px">
        {points.length > 1 && (
          <>
            {!unfolded && <Text color="soft">short</Text>}
            <chakra.svg
              viewBox={`0 0 ${width} ${height}`}
              width={unfolded ? "100%" : `${width}px`}
              height={unfolded ? undefined : `${height}px`}
              maxH="100px"
              flexShrink={unfolded ? 1 : 0}
              tabIndex={0}
              role="slider"
              aria-label="balance from short to tight"
              aria-valuemin={0}
              aria-valuemax={points.length - 1}
              aria-valuenow={at}
              aria-valuetext={says(here)}
              onKeyDown={keys}
              color="ink"
              fontSize="11px"
            >
              {unfolded && <chakra.path d={`M10 6V${h - 2}H${w - 8}`} fill="none" stroke="line" />}
              <path
                d={points.map((p, i) => `${i ? "L" : "M"}${px(i)} ${py(p)}`).join("")}
                fill="none"
                stroke="currentColor"
                strokeWidth="1.4"
              />
              {points.map((p, i) => (
                <chakra.circle
                  key={p.balance}
                  cx={px(i)}
                  cy={py(p)}
                  r={i === at ? 5.5 : 3.5}
                  fill={i === at ? "accent" : "sheet"}
                  stroke={i === at ? "accent" : "ink"}
                  strokeWidth="1.4"
                  cursor="pointer"
                  onClick={() => choose(p.balance)}
                >
                  <title>{says(p)}</title>
                </chakra.circle>
              ))}
            </chakra.svg>
            {!unfolded && <Text color="soft">tight</Text>}
          </>
        )}
        {!unfolded && (
          <>
            <Text color="accent" fontWeight="600" truncate>
              all derived rules open {here.opened.toFixed(1)} × what was seen
            </Text>
            {points.length > 1 ? (
              <Link ml="auto" color="soft" flexShrink={0} onClick={() => setUnfolded(true)}>
                show the curve
              </Link>
            ) : (
              <Text color="soft">at every balance</Text>
            )}
          </>
        )}
      </Flex>
      {unfolded && (
        <Flex fontSize="12px" color="soft" justify="space-between" gap="10px">
          <Text>short: {plural(left(points[0]!.balance), "proposal")}</Text>
          <Text color="accent" fontWeight="600">
            {says(here)}
          </Text>
          <Text>tight: {plural(left(points.at(-1)!.balance), "proposal")}</Text>
          <Link onClick={() => setUnfolded(false)}>fold</Link>
        </Flex>
      )}
    </Box>
  );
}
