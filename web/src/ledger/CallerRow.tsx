import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { useWhy, useWindow, write } from "../frame/address";
import { Mark, Spark, VerdictBar, VerdictWord } from "../marks/Marks";
import { atMinute, bytes, n, plural, utc } from "../marks/words";
import { RowFrame } from "./RowFrame";
import { Name } from "./ServedRow";
import type { LedgerQuery } from "./shared";

type Row = Schemas["LedgerRow"];
type Conversation = Schemas["ConversationOut"];

/** One caller of a served thing. */
export function CallerRow({ row, near, query }: { row: Row; near: string; query: LedgerQuery }) {
  const [open, setOpen] = useState(false);
  const turned = query.turn === "reaches";
  return (
    <Box>
      <RowFrame
        depth={1}
        name={row.label}
        open={open}
        toggle={() => setOpen(!open)}
        cells={[
          <span key="n">
            <chakra.span color="soft">{turned ? "to " : "from "}</chakra.span>
            <Name row={row} />
          </span>,
          <chakra.span key="r" color="soft">
            {row.rules.length ? `line ${row.rules.slice(0, 3).join(", ")}` : "no rule"}
          </chakra.span>,
          n(row.conversations),
          <VerdictBar key="v" counts={row.counts} width={108} />,
          <chakra.span key="o" color="soft">
            {plural(row.connections, "connection")}, {bytes(row.bytes)}
          </chakra.span>,
          <Spark key="s" values={row.spark} />,
        ]}
      />
      {open && <Conversations near={near} row={row} query={query} />}
    </Box>
  );
}

function Conversations({ near, row, query }: { near: string; row: Row; query: LedgerQuery }) {
  const w = useWindow();
  const [limit, setLimit] = useState(50);
  const { data } = api.useQuery("get", "/api/conversations", { params: { query: { ...w, ...query, near, far: row.key, service: row.service, limit } } });
  if (!data) return <Text pl="66px" color="soft">…</Text>;
  return (
    <Box role="rowgroup">
      {data.conversations.map((c) => (
        <ConversationRow key={c.client.addr + c.server.addr + c.first} c={c} />
      ))}
      {data.total > data.conversations.length && (
        <chakra.button type="button" pl="66px" py="4px" color="soft" textDecoration="underline" onClick={() => setLimit(Math.min(1000, limit + 200))}>
          {n(data.total - data.conversations.length)} more
        </chakra.button>
      )}
    </Box>
  );
}

function ConversationRow({ c }: { c: Conversation }) {
  const [open, setOpen] = useState(false);
  const { subject, show } = useWhy();
  const changed = c.was && c.was !== c.verdict ? c.was : undefined;
  const mine = { kind: "flow" as const, client: c.client.addr, server: c.server.addr, service: c.service, at: c.first };
  const kind = c.verdict === "reject" && c.carried > 0 ? "leak" : c.verdict === "permit" && c.dropped > 0 ? "choke" : undefined;
  return (
    <Box>
      <RowFrame
        depth={2}
        name={`${c.client.name} to ${c.server.name}, ${c.verdict}`}
        open={open}
        toggle={() => setOpen(!open)}
        onEnter={() => show(mine)}
        selected={!!subject && write(subject) === write(mine)}
        cells={[
          <span key="c">
            {c.client.name}
            {c.client.workload && <chakra.span color="soft"> {c.client.addr}</chakra.span>}
          </span>,
          <span key="v" data-was={changed}>
            {changed && (
              <chakra.span title={`${changed} in the revision that is compared with`}>
                <Mark kind={changed} size={10} /> →{" "}
              </chakra.span>
            )}
            <VerdictWord verdict={c.verdict} />
          </span>,
          n(c.connections),
          <chakra.span key="o" color="soft">
            {kind && <Mark kind={kind} />} {c.carried > 0 && "carried"} {c.dropped > 0 && "dropped"} {kind && <b>{kind}</b>}
          </chakra.span>,
          <span key="s">
            → {c.server.name}
            <chakra.span color="soft" title={`${utc(c.first)} to ${utc(c.last)}`}>
              {" "}
              {c.server.workload && c.server.addr} · {atMinute(c.first)} – {atMinute(c.last)}
            </chakra.span>
          </span>,
          <Spark key="w" values={c.spark} />,
        ]}
      />
      {open && <Hours c={c} />}
    </Box>
  );
}

function Hours({ c }: { c: Conversation }) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/conversations/hours", { params: { query: { ...w, client: c.client.addr, server: c.server.addr, service: c.service, first: c.first } } });
  return (
    <Box pl="84px" py="4px" maxH="220px" overflowY="auto" borderBottomWidth="1px" borderColor="line2" fontSize="12px">
      <chakra.table w="auto">
        <thead>
          <tr>
            {["Hour", "Outcome", "Connections", "Packets", "Bytes", "Reported by"].map((h) => (
              <chakra.th key={h} textAlign="left" color="soft" fontWeight="500" pr="18px">
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data?.map((h) => (
            <tr key={h.at + h.outcome}>
              <chakra.td pr="18px" title={utc(h.at)}>
                {atMinute(h.at)}
              </chakra.td>
              <chakra.td pr="18px">{h.outcome || "not known"}</chakra.td>
              <chakra.td pr="18px">{n(h.connections)}</chakra.td>
              <chakra.td pr="18px">{n(h.packets)}</chakra.td>
              <chakra.td pr="18px">{bytes(h.bytes)}</chakra.td>
              <chakra.td>{h.observer}</chakra.td>
            </tr>
          ))}
        </tbody>
      </chakra.table>
    </Box>
  );
}
