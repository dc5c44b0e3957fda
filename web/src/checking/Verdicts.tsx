// The verdicts as one bar over the strip of time; each part is a switch, and the
// measure can be conversations, pairs or bytes.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { api, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import type { LedgerQuery } from "../ledger/shared";
import { Switches } from "../marks/Controls";
import { Mark, type Verdict, verdictColor } from "../marks/Marks";
import { bytes, n, onDay, percent } from "../marks/words";

export type Measure = "conversations" | "pairs" | "bytes";
const verdicts: Verdict[] = ["permit", "reject", "uncovered"];
const backs = { permit: "permitTint", reject: "rejectTint", uncovered: "openTint" };

/** The shares of the verdicts, true to scale; one that is too small to see is drawn wider, and hatched. */
function Scale({ shares }: { shares: [Verdict, number][] }) {
  return (
    <Flex h="7px" mt="3px" gap="1px" aria-hidden data-scale>
      {shares
        .filter(([, share]) => share > 0)
        .map(([v, share]) => {
          const thin = share < 0.005;
          return (
            <Box
              key={v}
              flex={thin ? "0 0 5px" : `${share} 1 0`}
              minW="0"
              title={`${percent(share)} ${v}${thin ? "; drawn wider than to scale" : ""}`}
              color={verdictColor(v)}
              background={
                thin ? "repeating-linear-gradient(45deg, currentColor 0 1px, transparent 1px 3px)" : "currentColor"
              }
              opacity={0.75}
            />
          );
        })}
    </Flex>
  );
}

export function Verdicts({ c, query, measure }: { c: Schemas["CheckOut"]; query: LedgerQuery; measure: Measure }) {
  const { change } = useAddress();
  const on = query.verdict ?? [];
  const value = (v: Verdict) =>
    measure === "bytes" ? (c.bytes[v] ?? 0) : measure === "pairs" ? (c.pairs?.[v] ?? 0) : c.counts[v];
  const total = verdicts.reduce((s, v) => s + value(v), 0);
  const shown = measure === "bytes" ? bytes : n;
  return (
    <Box flex="1" minW="0">
      <Flex align="center" gap="8px">
        <Flex flex="1" gap="2px" role="group" aria-label="verdicts, as switches" minW="0">
          {verdicts.map((v) => {
            const pressed = on.includes(v);
            return (
              <chakra.button
                key={v}
                type="button"
                data-total={v}
                aria-pressed={pressed}
                data-verdict={v}
                title={`${shown(value(v))} ${measure === "bytes" ? "" : measure} ${v}${measure === "pairs" ? ": pairs of client and server, each with its worst verdict" : ""}. ${pressed ? "Shown below. Press to show all" : "Press to show only these"}`}
                onClick={() =>
                  change({ verdict: pressed ? on.filter((x) => x !== v) : [...on, v], odd: null, asking: null })
                }
                flex="1 1 0"
                minW="0"
                h="38px"
                px="9px"
                textAlign="left"
                cursor="pointer"
                position="relative"
                overflow="hidden"
                bg={backs[v]}
                borderBottomWidth="4px"
                borderColor={verdictColor(v)}
                borderBottomStyle={v === "uncovered" ? "dotted" : "solid"}
                outline={pressed ? "2px solid" : undefined}
                outlineColor={verdictColor(v)}
                outlineOffset="-2px"
                whiteSpace="nowrap"
              >
                <chakra.span fontFamily="heading" fontSize="19px" lineHeight="1">
                  {shown(value(v))}
                </chakra.span>{" "}
                <Mark kind={v} size={11} />{" "}
                <chakra.span color={verdictColor(v)} fontWeight="500">
                  {v}
                </chakra.span>{" "}
                <chakra.span color="soft" fontSize="11.5px">
                  {total > 0 ? percent(value(v) / total) : ""}
                </chakra.span>
              </chakra.button>
            );
          })}
        </Flex>
      </Flex>
      <Scale shares={verdicts.map((v) => [v, value(v) / Math.max(1, total)])} />
      <Hours query={query} measure={measure} />
      <Flex gap="8px" align="center" mt="3px">
        <Text color="soft" fontSize="11.5px">
          counted by
        </Text>
        <Switches
          label="counted by"
          on={[measure]}
          toggle={(m) => change({ measure: m === "conversations" ? null : m }, { replace: true })}
          options={(["conversations", "pairs", "bytes"] as Measure[]).map((m) => ({ value: m, shown: m }))}
        />
        {c.accepted > 0 && (
          <Text color="soft" fontSize="11.5px" data-settled={c.accepted}>
            {`Probes expect ${n(c.accepted)} of the rejections`}
          </Text>
        )}
      </Flex>
    </Box>
  );
}

/** The window by verdict over time. */
function Hours({ query, measure }: { query: LedgerQuery; measure: Measure }) {
  const w = useWindow();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  const { data } = api.useQuery("get", "/api/v1/flows/strip", {
    params: { query: { ...w, ...query, bins: 112, measure } },
  });
  useEffect(() => {
    if (!box.current) return;
    const o = new ResizeObserver(([e]) => e && setWidth(e.contentRect.width));
    o.observe(box.current);
    return () => o.disconnect();
  }, []);
  const shown = measure === "bytes" ? bytes : n;
  const bins = data?.bins ?? [];
  const height = 40;
  const top = Math.max(1, ...bins.map((b) => b.permit + b.reject + b.uncovered));
  const bw = width / Math.max(1, bins.length);
  return (
    <Box ref={box} mt="6px" h={`${height}px`} flexShrink={0}>
      <svg width={width} height={height} role="img" aria-label={`${measure} by verdict over the window`}>
        {bins.map((b, i) => {
          const h = (v: number) => (v / top) * (height - 2);
          const x = `${i * bw}px`;
          const bar = `${Math.max(0.5, bw - 1)}px`;
          return (
            <g key={b.at}>
              <title>{`${onDay(b.at)}: ${shown(b.permit)} permit, ${shown(b.reject)} reject, ${shown(b.uncovered)} uncovered`}</title>
              <chakra.rect
                x={x}
                width={bar}
                y={`${height - h(b.permit)}px`}
                height={`${h(b.permit)}px`}
                fill="permit"
                opacity=".85"
              />
              <chakra.rect
                x={x}
                width={bar}
                y={`${height - h(b.permit + b.reject)}px`}
                height={`${h(b.reject)}px`}
                fill="reject"
              />
              <rect
                x={i * bw}
                width={Math.max(0.5, bw - 1)}
                y={height - h(b.permit + b.reject + b.uncovered)}
                height={h(b.uncovered)}
                fill="url(#undecided-dots)"
              />
            </g>
          );
        })}
      </svg>
    </Box>
  );
}
