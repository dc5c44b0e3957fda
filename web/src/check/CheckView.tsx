// Check: what would the draft do with what was seen?
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { api, problem, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { Ledger } from "../ledger/Ledger";
import { LedgerBar, useLedgerQuery } from "../ledger/LedgerBar";
import { Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { Mark, type Verdict, verdictColor, VerdictHeads } from "../marks/Marks";
import { n, onDay, plural } from "../marks/words";
import { Assertions } from "./Assertions";
import { Footing } from "./Footing";
import { CompareWith, Difference } from "./Difference";

export function CheckView() {
  const w = useWindow();
  const query = useLedgerQuery();
  const { change } = useAddress();
  const { data: c, error } = api.useQuery("get", "/api/check", { params: { query: { ...w, against: query.against } } }, { placeholderData: (kept) => kept });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!c) return null;
  const total = c.counts.permit + c.counts.reject + c.counts.uncovered;
  if (total === 0) {
    return (
      <Box px="20px" pt="12px">
        <Sentence>There is nothing to check yet.</Sentence>
        <Empty title="No conversations in the window">Import workloads and flows first; then this page says what the draft would do with each.</Empty>
        <Assertions />
      </Box>
    );
  }
  const only = (v: Verdict) => change({ verdict: [v], odd: null });
  return (
    <Flex direction="column" h="100%" px="20px" pt="12px">
      <Sentence>
        {c.carriedRejects > 0 ? (
          <>
            The draft would reject <Link onClick={() => change({ verdict: ["reject"], odd: "1" })}>{n(c.carriedRejects)}</Link> of the conversations that run today and leaves{" "}
          </>
        ) : (
          <>The draft rejects nothing that runs today and leaves </>
        )}
        <Link data-uncovered={c.counts.uncovered} onClick={() => only("uncovered")}>
          {n(c.counts.uncovered)}
        </Link>{" "}
        uncovered
        {c.liveStores > 0 && (
          <>
            ; <Link onClick={() => change({ verdict: ["uncovered"], q: "store-live" })}>{n(c.liveStores)}</Link> of those reach live stores
          </>
        )}
        .
      </Sentence>
      <Flex align="flex-end" gap="6px" mt="10px" wrap="wrap">
        {(["permit", "reject", "uncovered"] as Verdict[]).map((v) => (
          <Total key={v} verdict={v} value={c.counts[v]} on={query.verdict?.includes(v) ?? false} choose={() => (query.verdict?.includes(v) ? change({ verdict: null }) : only(v))} />
        ))}
        <Flex ml="auto" gap="10px" align="flex-end">
          <CompareWith head={c.revision} changed={query.against ? c.difference?.changed : undefined} />
          {c.difference && query.against ? <Difference d={c.difference} /> : <Outcomes c={c} />}
        </Flex>
      </Flex>
      <Hours />
      <LedgerBar query={query} />
      <Ledger query={query} empty={<Empty title="Nothing agrees with these filters">{query.verdict?.[0] === "uncovered" ? "Every conversation of the window is decided by some rule." : "Take one away, or widen the window."}</Empty>} />
      <Footing />
    </Flex>
  );
}

function Total({ verdict, value, on, choose }: { verdict: Verdict; value: number; on: boolean; choose: () => void }) {
  return (
    <chakra.button type="button" aria-pressed={on} onClick={choose} textAlign="left" cursor="pointer" px="8px" py="4px" borderRadius="5px" bg={on ? "tintStrong" : undefined} _hover={{ bg: "tint" }} data-total={verdict}>
      <chakra.span fontFamily="heading" fontSize="26px" lineHeight="1.1">
        {n(value)}
      </chakra.span>{" "}
      <Mark kind={verdict} size={13} />
      <Text color={verdictColor(verdict)}>
        {verdict}
        {on && " · shown"}
      </Text>
    </chakra.button>
  );
}

/** Verdict × outcome: where the two disagree is a leak or a choke. */
function Outcomes({ c }: { c: Schemas["CheckOut"] }) {
  const { change } = useAddress();
  const verdicts: Verdict[] = ["permit", "reject", "uncovered"];
  const cell = { px: "12px", py: "2px", textAlign: "right", borderBottomWidth: "1px", borderColor: "line2" } as const;
  return (
    <chakra.table fontSize="12.5px" aria-label="verdict and outcome">
      <thead>
        <tr>
          <td />
          <VerdictHeads {...cell} />
        </tr>
      </thead>
      <tbody>
        {([1, 2, 0] as const).map((o) => (
          <tr key={o}>
            <chakra.td {...cell} textAlign="left" color="soft">
              {["not known", "carried", "dropped"][o]}
            </chakra.td>
            {verdicts.map((v) => {
              const odd = v === "reject" && o === 1 ? "leak" : v === "permit" && o === 2 ? "choke" : undefined;
              const value = c.outcomes[v]?.[o] ?? 0;
              return (
                <chakra.td key={v} {...cell}>
                  {odd && value > 0 ? (
                    <Link fontWeight="600" color={odd === "leak" ? "reject" : "permit"} onClick={() => change({ odd: "1", verdict: [v] })} title={odd === "leak" ? "rejected, yet carried" : "permitted, yet dropped"}>
                      <Mark kind={odd} /> {plural(value, odd)}
                    </Link>
                  ) : (
                    n(value)
                  )}
                </chakra.td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </chakra.table>
  );
}

/** The window by verdict over time. */
function Hours() {
  const w = useWindow();
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(900);
  const { data } = api.useQuery("get", "/api/flows/strip", { params: { query: { ...w, bins: 112 } } });
  useEffect(() => {
    if (!box.current) return;
    const o = new ResizeObserver(([e]) => e && setWidth(e.contentRect.width));
    o.observe(box.current);
    return () => o.disconnect();
  }, []);
  const bins = data?.bins ?? [];
  const height = 46;
  const top = Math.max(1, ...bins.map((b) => b.permit + b.reject + b.uncovered));
  const bw = width / Math.max(1, bins.length);
  return (
    <Box ref={box} mt="8px" h={`${height}px`} flexShrink={0}>
      <svg width={width} height={height} role="img" aria-label="conversations by verdict over the window">
        {bins.map((b, i) => {
          const h = (v: number) => (v / top) * (height - 2);
          const x = `${i * bw}px`;
          const bar = `${Math.max(0.5, bw - 1)}px`;
          return (
            <g key={b.at}>
              <title>{`${onDay(b.at)}: ${b.permit} permit, ${b.reject} reject, ${b.uncovered} uncovered`}</title>
              <chakra.rect x={x} width={bar} y={`${height - h(b.permit)}px`} height={`${h(b.permit)}px`} fill="permit" opacity=".85" />
              <chakra.rect x={x} width={bar} y={`${height - h(b.permit + b.reject)}px`} height={`${h(b.reject)}px`} fill="reject" />
              <rect x={i * bw} width={Math.max(0.5, bw - 1)} y={height - h(b.permit + b.reject + b.uncovered)} height={h(b.uncovered)} fill="url(#undecided-dots)" />
            </g>
          );
        })}
      </svg>
    </Box>
  );
}
