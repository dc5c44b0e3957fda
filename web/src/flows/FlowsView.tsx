// Flows: who talks to whom?
import { Box, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { ImportDialog } from "../importing/ImportDialog";
import { Ledger } from "../ledger/Ledger";
import { LedgerBar, useLedgerQuery } from "../ledger/LedgerBar";
import { Btn, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { n, plural } from "../marks/words";

export function FlowsView() {
  const w = useWindow();
  const query = useLedgerQuery();
  const { change } = useAddress();
  const [importing, setImporting] = useState(false);
  const strip = api.useQuery("get", "/api/flows/strip", { params: { query: { ...w, bins: 1 } } });
  const ledger = api.useQuery("get", "/api/ledger", { params: { query: { ...w, turn: query.turn, limit: 1 } } });
  const check = api.useQuery("get", "/api/check", { params: { query: w } });
  const none = strip.data && !strip.data.from;
  return (
    <Flex direction="column" h="100%" px="20px" pt="12px">
      <Flex align="flex-start" gap="20px">
        <Box flex="1">
          {strip.data && !none && (
            <Sentence>
              {plural(strip.data.conversations, "conversation")} reach {plural(ledger.data?.total ?? 0, "served thing")};{" "}
              <Link onClick={() => change({ verdict: ["uncovered"] })}>{n(check.data?.counts.uncovered ?? 0)}</Link> of them no rule decides
              {!!check.data?.leaks && (
                <>
                  , and <Link onClick={() => change({ odd: "1", verdict: null })}>{plural(check.data.leaks, "leak")}</Link> slip past
                </>
              )}
              .
            </Sentence>
          )}
          {none && <Sentence>No traffic is known yet.</Sentence>}
          {strip.error && <ProblemNote>{problem(strip.error)}</ProblemNote>}
        </Box>
        <Btn onClick={() => setImporting(true)}>Import flows…</Btn>
      </Flex>
      {none ? (
        <Empty title="No flows yet">
          Import a CSV file with the columns start, src, dst, proto and dport; or start the program with --demo to look around in a made-up company.
          <Box mt="10px">
            <Btn primary onClick={() => setImporting(true)}>
              Import flows…
            </Btn>
          </Box>
        </Empty>
      ) : (
        <>
          <LedgerBar query={query} />
          <Ledger query={query} empty={<Empty title="Nothing agrees with these filters">Take one away, or widen the window.</Empty>} />
        </>
      )}
      <ImportDialog kind="flows" open={importing} onClose={() => setImporting(false)} />
    </Flex>
  );
}
