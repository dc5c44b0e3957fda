// Check: what would the draft do with what was seen, and with what nobody has
// seen yet?
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, problem } from "../api/client";
import { PageLink } from "../frame/PageLink";
import { useAddress, useWindow } from "../frame/address";
import { Ledger } from "../ledger/Ledger";
import { LedgerBar, useLedgerQuery } from "../ledger/LedgerBar";
import { SettleHere } from "../ledger/Settle";
import { Empty, ProblemNote, Sentence, Switches } from "../marks/Controls";
import type { Verdict } from "../marks/Marks";
import { n } from "../marks/words";
import { called, useAgainst } from "./against";
import { Assertions } from "./Assertions";
import { Bench } from "./Bench";
import { Chosen } from "./Chosen";
import { CompareWith, Difference } from "./Difference";
import { Figures } from "./Figures";
import { FindingsList } from "./FindingsList";
import { ForPart } from "./ForPart";
import { Outcomes } from "./Outcomes";
import { Report } from "./Report";
import { type Measure, Verdicts } from "./Verdicts";

const parts = ["seen", "ask", "assertions", "findings", "figures", "report"] as const;
type Part = (typeof parts)[number];

export function CheckView() {
  const { search, change } = useAddress();
  const part = parts.find((p) => p === search.get("part")) ?? "seen";
  const w = useWindow();
  const against = useAgainst();
  const asked = useLedgerQuery();
  const was = search.getAll("was") as Verdict[];
  const query = { ...asked, against: against.revision, was: against.revision ? was : undefined };
  const measure = (search.get("measure") as Measure | null) ?? "conversations";
  const {
    data: c,
    error,
    isPlaceholderData: old,
  } = api.useQuery("get", "/api/v1/check", { params: { query: { ...w, ...query, measure } } });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!c) return null;
  const empty = c.conversations === 0;
  return (
    <Flex direction="column" h="100%" px="20px" pt="10px" _print={{ display: "block", h: "auto" }}>
      <Box _print={{ display: "none" }}>
        {/* While the answer to another question is found, the one before is pale. */}
        <Box opacity={old ? 0.45 : 1} aria-busy={old}>
          {empty ? (
            <Sentence>There is nothing to check yet.</Sentence>
          ) : (
            <Chosen c={c} query={query} against={against} />
          )}
        </Box>
        <Flex align="center" gap="10px" mt="8px" wrap="wrap" rowGap="4px">
          <Parts part={part} choose={(p) => change({ part: p === "seen" ? null : p, why: null })} />
          <Flex ml="auto" gap="10px" align="center">
            <ForPart />
            <CompareWith
              head={c.revision}
              against={against}
              changed={query.against ? c.difference?.changed : undefined}
            />
          </Flex>
        </Flex>
      </Box>
      {part === "seen" &&
        (empty ? (
          <Empty title="No conversations in the window">
            This page shows what the draft does with each conversation. Questions about unseen traffic are already
            possible, under “What if”. <PageLink to="/flows">Receive or import flows</PageLink>
          </Empty>
        ) : (
          <SettleHere query={query}>
            <Flex
              mt="8px"
              gap={{ base: "8px", md: "24px" }}
              direction={{ base: "column", md: "row" }}
              align="stretch"
              flexShrink={0}
              opacity={old ? 0.45 : 1}
            >
              <Verdicts c={c} query={query} measure={measure} />
              {c.difference && query.against ? (
                <Difference d={c.difference} called={called(against)} />
              ) : (
                <Outcomes c={c} />
              )}
            </Flex>
            <LedgerBar query={query} switches={false} />
            <Ledger
              query={query}
              empty={
                <Empty title="No conversation matches these filters">
                  {query.verdict?.[0] === "uncovered" && query.verdict.length === 1
                    ? "Rules decide every conversation that matches the other filters."
                    : "Remove a filter, or widen the window."}
                </Empty>
              }
            />
          </SettleHere>
        ))}
      {part === "ask" && <Bench />}
      {part === "assertions" && <Assertions />}
      {part === "findings" && <FindingsList />}
      {part === "figures" && <Figures />}
      {part === "report" && <Report />}
    </Flex>
  );
}

/** The parts of the view, each with what needs attention there. */
function Parts({ part, choose }: { part: Part; choose: (p: Part) => void }) {
  const w = useWindow();
  const asserts = api.useQuery("get", "/api/v1/assertions");
  const probes = api.useQuery("get", "/api/v1/probes", { params: { query: w } });
  const found = api.useQuery("get", "/api/v1/findings", { params: { query: w } });
  const bad = asserts.data?.filter((a) => a.result !== "holds").length ?? 0;
  const off = probes.data?.filter((p) => !p.answer?.asExpected).length ?? 0;
  const need = (count: number, words: string) =>
    count > 0 && (
      <chakra.span color="open" fontWeight="500">
        {` ${n(count)} ${words}`}
      </chakra.span>
    );
  return (
    <Switches
      label="parts of the check"
      on={[part]}
      toggle={choose}
      options={[
        { value: "seen", shown: "What was seen" },
        {
          value: "ask",
          shown: (
            <Text as="span">
              What if
              {probes.data &&
                probes.data.length > 0 &&
                (off ? (
                  need(off, off === 1 ? "probe differs" : "probes differ")
                ) : (
                  <chakra.span color="soft">{` ${n(probes.data.length)} as expected`}</chakra.span>
                ))}
            </Text>
          ),
        },
        {
          value: "assertions",
          shown: (
            <Text as="span">
              Assertions
              {asserts.data &&
                asserts.data.length > 0 &&
                (bad ? (
                  need(bad, "open or broken")
                ) : (
                  <chakra.span color="soft">{` ${n(asserts.data.length)} hold`}</chakra.span>
                ))}
            </Text>
          ),
        },
        { value: "findings", shown: <Text as="span">Findings{need(found.data?.findings.length ?? 0, "")}</Text> },
        { value: "figures", shown: "Figures" },
        { value: "report", shown: "Report" },
      ]}
    />
  );
}
