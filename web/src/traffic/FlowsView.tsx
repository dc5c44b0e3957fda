// Flows: who talks to whom, and where does traffic cross a boundary?
import { Box, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { ImportDialog } from "../imports/ImportDialog";
import { Ledger } from "../ledger/Ledger";
import { LedgerBar, useLedgerQuery } from "../ledger/LedgerBar";
import { Btn, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { MapPart } from "./MapPart";
import { columnsOf, pathOf, verdicts } from "./passages";

export function FlowsView() {
  const w = useWindow();
  const query = useLedgerQuery();
  const along = useCarried();
  const navigate = useNavigate();
  const [importing, setImporting] = useState(false);
  const strip = api.useQuery("get", "/api/v1/flows/strip", { params: { query: { ...w, bins: 1 } } });
  const exporters = api.useQuery("get", "/api/v1/exporters", {}, { refetchInterval: 5000, staleTime: 0 });
  const none = strip.data && !strip.data.from;
  const rate = exporters.data?.collectors.filter((c) => !c.quiet).reduce((s, c) => s + c.rate, 0) ?? 0;
  const listening = exporters.data?.collectors.find((c) => !c.quiet)?.listening ?? [];
  return (
    <Flex direction="column" h="100%" px="20px" pt="10px">
      <Flex align="flex-start" gap="10px">
        <Box flex="1">
          {strip.data && !none && <Answer />}
          {none && <Sentence>No traffic yet.</Sentence>}
          {strip.error && <ProblemNote>{problem(strip.error)}</ProblemNote>}
        </Box>
        <Btn onClick={() => void navigate(`/flows/exporters${along}`)}>
          Exporters
          {rate >= 0.5
            ? `: ${n(rate)} records/s`
            : exporters.data?.exporters.length
              ? `: ${n(exporters.data.exporters.length)}, quiet`
              : ""}
        </Btn>
        <Btn onClick={() => setImporting(true)}>Import flows…</Btn>
      </Flex>
      {none ? (
        <Empty title="No flows yet">
          Send IPFIX, NetFlow or sFlow to{" "}
          {listening.length ? listening.join(", ") : "the collector (not running; start it with --ipfix)"}, or import a
          file (CSV with any headings, JSON Lines, IPFIX, or a packet capture). To look around in a made-up company,
          start the program with --demo.
          <Flex mt="10px" gap="8px">
            <Btn primary onClick={() => setImporting(true)}>
              Import flows…
            </Btn>
            <Btn onClick={() => void navigate(`/flows/exporters${along}`)}>Set up exporters</Btn>
          </Flex>
        </Empty>
      ) : (
        <>
          <MapPart query={query} />
          <LedgerBar query={query} />
          <Ledger
            query={query}
            empty={<Empty title="No conversation matches these filters">Remove a filter, or widen the window.</Empty>}
          />
        </>
      )}
      <ImportDialog kind="flows" open={importing} onClose={() => setImporting(false)} />
    </Flex>
  );
}

/** What crosses the walls, most urgent first. */
function Answer() {
  const w = useWindow();
  const query = useLedgerQuery();
  const { change } = useAddress();
  const keys = { columns: query.columns, rows: query.rows };
  const map = api.useQuery("get", "/api/v1/flows/map", { params: { query: { ...w, ...keys } } });
  const check = api.useQuery("get", "/api/v1/check", { params: { query: w } });
  const m = map.data;
  if (!m) return <Sentence>…</Sentence>;
  const names = columnsOf(m);
  const gates = m.gates.filter((g) => names.includes(g.clientColumn) && names.includes(g.serverColumn));
  const open = gates.filter((g) => g.counts.uncovered > 0).sort((a, b) => b.counts.uncovered - a.counts.uncovered);
  const stray = m.gates.filter(
    (g) => g.clientColumn === "~nowhere" && names.includes(g.serverColumn) && g.counts.uncovered > 0,
  );
  // As the map draws them: one for each verdict of a direction.
  const drawn = gates.reduce((s, g) => s + verdicts.filter((v) => g.counts[v] > 0).length, 0);
  const rejected = gates.reduce((s, g) => s + g.counts.reject, 0);
  const first = open[0];
  const stream = first?.top.find((t) => t.verdict === "uncovered");
  const pick = (paths: string[], verdict?: string) => change({ path: paths, verdict: verdict ? [verdict] : null });
  return (
    <Sentence>
      {gates.length === 0 ? (
        <>No traffic crosses a wall{names.length > 1 ? ` between ${names.join(", ")}` : ""}</>
      ) : (
        <>
          <Link onClick={() => pick(gates.map(pathOf))}>{plural(drawn, "gate")}</Link>{" "}
          {drawn === 1 ? "pierces" : "pierce"} the walls
          {first && (
            <>
              ; through {open.length === 1 ? "one" : n(open.length)},{" "}
              <Link onClick={() => pick(open.map(pathOf), "uncovered")}>
                {plural(
                  open.reduce((s, g) => s + g.counts.uncovered, 0),
                  "conversation",
                )}
              </Link>{" "}
              that no rule decides
              {stream && `, mostly ${stream.client} → ${stream.server}`}
            </>
          )}
          {!first && stray.length === 0 && rejected > 0 && (
            <>
              ; <Link onClick={() => pick(gates.map(pathOf), "reject")}>{n(rejected)}</Link> of their conversations are
              rejected
            </>
          )}
        </>
      )}
      {stray.length > 0 && (
        <>
          ; no rule decides{" "}
          <Link onClick={() => pick(stray.map(pathOf), "uncovered")}>
            {plural(
              stray.reduce((sum, g) => sum + g.counts.uncovered, 0),
              "conversation",
            )}
          </Link>{" "}
          of workloads without a plot
        </>
      )}
      {!!check.data?.leaks && (
        <>
          ;{" "}
          <Link onClick={() => change({ odd: "1", verdict: null, path: null })}>
            {plural(check.data.leaks, "leak")}
          </Link>{" "}
          bypass the gates
        </>
      )}
      .
    </Sentence>
  );
}
