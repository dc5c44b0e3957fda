// What a conversation was gathered from: its single records, or its hours; and
// the way to say that it is the wrong way round.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { useWindow } from "../frame/address";
import { Link, Switches } from "../marks/Controls";
import { atMinute, atSecond, bytes, n, plural, utc } from "../marks/words";
import { WrongWay } from "./WrongWay";

type Conversation = Schemas["ConversationOut"];

export function Records({ c }: { c: Conversation }) {
  const [shape, setShape] = useState<"records" | "hours">("records");
  const [wrong, setWrong] = useState(false);
  const portless = !/^(tcp|udp|sctp)\//.test(c.service);
  return (
    <Box pl="84px" pr="10px" py="4px" borderBottomWidth="1px" borderColor="line" fontSize="12px">
      <Flex gap="12px" align="center" pb="3px">
        <Switches
          label="records of the conversation"
          options={[
            { value: "records", shown: "Single records" },
            { value: "hours", shown: "By the hour" },
          ]}
          on={[shape]}
          toggle={setShape}
        />
        {c.unsure > 0 && <Text color="open">Of {plural(c.unsure, "connection")} the server end is uncertain.</Text>}
        {!portless && <Link onClick={() => setWrong(true)}>Swap client and server…</Link>}
      </Flex>
      {shape === "records" ? <Single c={c} /> : <Hours c={c} />}
      {wrong && <WrongWay c={c} close={() => setWrong(false)} />}
    </Box>
  );
}

function Table({ heads, children }: { heads: string[]; children: React.ReactNode }) {
  return (
    <Box maxH="220px" overflowY="auto">
      <chakra.table w="auto">
        <thead>
          <tr>
            {heads.map((h) => (
              <chakra.th
                key={h}
                textAlign="left"
                color="soft"
                fontWeight="500"
                pr="16px"
                position="sticky"
                top="0"
                bg="paper"
                whiteSpace="nowrap"
              >
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </chakra.table>
    </Box>
  );
}

function Single({ c }: { c: Conversation }) {
  const [limit, setLimit] = useState(100);
  const { data } = api.useQuery("get", "/api/v1/records", {
    params: {
      query: { client: c.client.addr, server: c.server.addr, service: c.service, from: c.first, to: c.last, limit },
    },
  });
  if (!data) return <Text color="soft">…</Text>;
  if (data.total === 0) {
    return (
      <Text color="soft">
        This conversation has no single records
        {data.days > 0 ? ` (they are kept for ${plural(data.days, "day")})` : ""}; the hourly counts are there.
      </Text>
    );
  }
  const flags = c.service.startsWith("tcp");
  return (
    <>
      <Table
        heads={[
          "Start",
          "Lasted",
          "Client port",
          "Packets → ←",
          "Bytes → ←",
          ...(flags ? ["Flags →", "Flags ←"] : []),
          "Outcome",
          "Seen by",
          "Direction",
        ]}
      >
        {data.records.map((r, i) => (
          <tr key={i}>
            <chakra.td pr="16px" title={utc(r.start)} whiteSpace="nowrap">
              {atSecond(r.start)}
              {r.connections === 0 && <chakra.span color="soft"> still open</chakra.span>}
            </chakra.td>
            <chakra.td pr="16px">{lasted(r.start, r.end)}</chakra.td>
            <chakra.td pr="16px">{r.clientPort || "–"}</chakra.td>
            <chakra.td pr="16px">
              {n(r.packets - r.replyPackets)} · {n(r.replyPackets)}
            </chakra.td>
            <chakra.td pr="16px" whiteSpace="nowrap">
              {bytes(r.bytes - r.replyBytes)} · {bytes(r.replyBytes)}
            </chakra.td>
            {flags && <chakra.td pr="16px">{r.flags.join(" ") || "–"}</chakra.td>}
            {flags && <chakra.td pr="16px">{r.replyFlags.join(" ") || "–"}</chakra.td>}
            <chakra.td pr="16px">{r.outcome || "unknown"}</chakra.td>
            <chakra.td pr="16px">{r.exporter || "–"}</chakra.td>
            <chakra.td color={r.confidence < 90 ? "open" : "soft"} whiteSpace="nowrap">
              {`${r.reason}, ${r.confidence} %`}
            </chakra.td>
          </tr>
        ))}
      </Table>
      {data.total > data.records.length && (
        <Link color="soft" onClick={() => setLimit(Math.min(5000, limit * 5))}>
          {n(data.total - data.records.length)} older
        </Link>
      )}
    </>
  );
}

function lasted(from: string, to: string) {
  const ms = Date.parse(to) - Date.parse(from);
  return ms < 1000 ? `${n(ms)} ms` : ms < 120_000 ? `${(ms / 1000).toFixed(1)} s` : `${n(ms / 60_000)} min`;
}

function Hours({ c }: { c: Conversation }) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/v1/conversations/hours", {
    params: { query: { ...w, client: c.client.addr, server: c.server.addr, service: c.service, first: c.first } },
  });
  return (
    <Table heads={["Hour", "Outcome", "Connections", "Packets", "Bytes", "Seen by"]}>
      {data?.map((h) => (
        <tr key={h.at + h.outcome + h.first}>
          <chakra.td pr="18px" title={utc(h.at)}>
            {atMinute(h.at)}
          </chakra.td>
          <chakra.td pr="18px">{h.outcome || "unknown"}</chakra.td>
          <chakra.td pr="18px">{n(h.connections)}</chakra.td>
          <chakra.td pr="18px">{n(h.packets)}</chakra.td>
          <chakra.td pr="18px">{bytes(h.bytes)}</chakra.td>
          <chakra.td>{h.observer}</chakra.td>
        </tr>
      ))}
    </Table>
  );
}
