import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { useWhy, useWindow, write } from "../frame/address";
import { Mark, Spark, VerdictBar, VerdictWord } from "../marks/Marks";
import { atMinute, bytes, n, plural, utc } from "../marks/words";
import { useExtras, useUnfolded } from "./columns";
import { Name } from "./Name";
import { Records } from "./Records";
import { RowFrame } from "./RowFrame";
import { useSelecting, useSettling } from "./Settle";
import type { LedgerQuery } from "./shared";

type Row = Schemas["LedgerRow"];
type Conversation = Schemas["ConversationOut"];

/** One caller of a served thing. */
export function CallerRow({
  row,
  near,
  nearName,
  query,
}: {
  row: Row;
  near: string;
  nearName: string;
  query: LedgerQuery;
}) {
  const [open, toggle] = useUnfolded(`${near}~${row.service}~${row.key}`);
  const turned = query.turn === "reaches";
  const [from, to] = turned ? [nearName, row.label] : [row.label, nearName];
  const target = {
    words: `${from} → ${to} on ${row.service}`,
    near,
    far: row.key,
    service: row.service,
    counts: row.counts,
  };
  const actions = useSettling(target);
  const select = useSelecting(target);
  return (
    <Box>
      <RowFrame
        depth={1}
        actions={actions}
        select={select}
        name={row.label}
        open={open}
        more={{
          connections: n(row.connections),
          bytes: bytes(row.bytes),
          first: <span title={utc(row.first)}>{atMinute(row.first)}</span>,
          last: <span title={utc(row.last)}>{atMinute(row.last)}</span>,
          rules: row.rules.join(", "),
        }}
        toggle={toggle}
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
  const { detail } = useExtras();
  const { data } = api.useQuery("get", "/api/v1/conversations", {
    params: { query: { ...w, ...query, near, far: row.key, service: row.service, limit, detail: detail || undefined } },
  });
  if (!data)
    return (
      <Text pl="66px" color="soft">
        …
      </Text>
    );
  return (
    <Box role="rowgroup">
      {data.conversations.map((c) => (
        <ConversationRow key={c.client.addr + c.server.addr + c.first} c={c} />
      ))}
      {data.total > data.conversations.length && (
        <chakra.button
          type="button"
          pl="66px"
          py="4px"
          color="soft"
          textDecoration="underline"
          onClick={() => setLimit(Math.min(1000, limit + 200))}
        >
          {n(data.total - data.conversations.length)} more
        </chakra.button>
      )}
    </Box>
  );
}

/** Connections by outcome, in words. */
function outcomes(c: Conversation) {
  const unknown = c.connections - c.carried - c.dropped;
  return [
    c.carried > 0 && `${n(c.carried)} carried`,
    c.dropped > 0 && `${n(c.dropped)} dropped`,
    unknown > 0 && `${n(unknown)} unknown`,
  ]
    .filter(Boolean)
    .join(", ");
}

function moreOf(c: Conversation) {
  const listed = (all: string[] | undefined) => {
    const text = all?.join(", ");
    return text ? <span title={text}>{text}</span> : "–";
  };
  return {
    connections: n(c.connections),
    bytes: bytes(c.bytes),
    first: <span title={utc(c.first)}>{atMinute(c.first)}</span>,
    last: <span title={utc(c.last)}>{atMinute(c.last)}</span>,
    rules: c.rule || "–",
    outcome: outcomes(c),
    packets: c.detail && n(c.detail.packets),
    exporters: listed(c.detail?.exporters),
    clientGroups: listed(c.detail?.clientGroups),
    serverGroups: listed(c.detail?.serverGroups),
    clientTags: listed(c.detail?.clientTags),
    serverTags: listed(c.detail?.serverTags),
  };
}

function ConversationRow({ c }: { c: Conversation }) {
  const [open, toggle] = useUnfolded(`conversation~${c.client.addr}~${c.server.addr}~${c.service}~${c.first}`);
  const { subject, show } = useWhy();
  const changed = c.was && c.was !== c.verdict ? c.was : undefined;
  const mine = { kind: "flow" as const, client: c.client.addr, server: c.server.addr, service: c.service, at: c.first };
  const counts = { permit: 0, reject: 0, uncovered: 0, [c.verdict]: 1 };
  const actions = useSettling({
    words: `${c.client.name} → ${c.server.name} on ${c.service}`,
    service: c.service,
    client: c.client.addr,
    server: c.server.addr,
    first: c.first,
    counts,
  });
  const kind =
    c.verdict === "reject" && c.carried > 0 ? "leak" : c.verdict === "permit" && c.dropped > 0 ? "choke" : undefined;
  return (
    <Box>
      <RowFrame
        depth={2}
        actions={actions}
        name={`${c.client.name} to ${c.server.name}, ${c.verdict}`}
        open={open}
        toggle={toggle}
        onEnter={() => show(mine)}
        more={moreOf(c)}
        selected={!!subject && write(subject) === write(mine)}
        cells={[
          <span key="c">
            {c.client.name}
            {c.client.workload && <chakra.span color="soft"> {c.client.addr}</chakra.span>}
          </span>,
          <span key="v" data-was={changed}>
            {changed && (
              <chakra.span title={`${changed} in the compared revision`}>
                <Mark kind={changed} size={10} /> →{" "}
              </chakra.span>
            )}
            <VerdictWord verdict={c.verdict} />
          </span>,
          <chakra.span key="n" color="soft" title={`${plural(c.connections, "connection")}: ${outcomes(c)}`}>
            {n(c.connections)} ×
          </chakra.span>,
          <chakra.span key="o" color="soft" title={outcomes(c)}>
            {c.unsure > 0 && (
              <chakra.span
                color="open"
                title={`Of ${plural(c.unsure, "connection")} the server end is uncertain. Expand the row to see and correct it`}
              >
                ⇄?{" "}
              </chakra.span>
            )}
            {kind && <Mark kind={kind} />} {c.carried > 0 && "carried"} {c.dropped > 0 && "dropped"}{" "}
            {kind && <b>{kind}</b>}
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
      {open && <Records c={c} />}
    </Box>
  );
}
