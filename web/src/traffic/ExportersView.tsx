// Who sends what of the traffic, how it is read, and for how long it is kept.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { useCarried } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { atMinute, bytes, n, plural, utc } from "../marks/words";
import { Kept } from "./Kept";

type Exporter = Schemas["ExporterOut"];

export function ExportersView() {
  const along = useCarried();
  const navigate = useNavigate();
  const { data, error } = api.useQuery("get", "/api/v1/exporters", {}, { refetchInterval: 2000, staleTime: 0 });
  const running = data?.collectors.filter((c) => !c.quiet) ?? [];
  const missed =
    data?.exporters.reduce((s, e) => s + e.streams.reduce((t, x) => t + (x.mixed ? 0 : x.missed), 0), 0) ?? 0;
  const rate = running.reduce((s, c) => s + c.rate, 0);
  const faulty = data?.exporters.filter((e) => e.unread.length > 0).length ?? 0;
  return (
    <Box h="100%" overflowY="auto" px="20px" pt="10px" pb="30px">
      <Flex align="flex-start" gap="10px" mb="6px">
        <Box flex="1">
          {data && (
            <Sentence>
              {data.exporters.length === 0 ? (
                <>No exporter has sent records yet.</>
              ) : (
                <>
                  {plural(data.exporters.length, "exporter")} {data.exporters.length === 1 ? "sends" : "send"}{" "}
                  {rate < 10 ? rate.toFixed(1) : n(rate)} records a second
                  {missed > 0 ? `; ${n(missed)} ${missed === 1 ? "was" : "were"} lost on the way` : "; none was lost"}
                  {faulty > 0 && `; of ${n(faulty)}, some packets cannot be read`}.
                </>
              )}
            </Sentence>
          )}
        </Box>
        <Btn onClick={() => void navigate(`/flows${along}`)}>Back to flows</Btn>
      </Flex>
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {data && running.length === 0 && (
        <ProblemNote>
          No collector runs, so no records are received. The server starts one unless you set --ipfix off; if it failed,
          its log has the reason.
        </ProblemNote>
      )}
      {data?.collectors.map((c) => (
        <Collector key={c.name} c={c} />
      ))}
      {data && data.exporters.length > 0 ? (
        <Exporters all={data.exporters} />
      ) : (
        data && (
          <Empty title="Point an exporter here">
            {running[0] ? (
              <>
                The collector listens at {running[0].listening.join(", ")}. IPFIX, NetFlow v5, v7 and v9 and sFlow v5
                are understood on each UDP port, IPFIX on TCP. To receive records from other machines, start the program
                with, for example,{" "}
                <chakra.code fontFamily="mono">--ipfix 0.0.0.0:4739 --exporters 10.20.0.0/16</chakra.code>.
              </>
            ) : (
              <>Start the program with --ipfix 127.0.0.1:4739.</>
            )}
          </Empty>
        )
      )}
      <SetAside />
      <SaidOfPorts />
      <Kept />
    </Box>
  );
}

const heading = { fontFamily: "heading", fontSize: "16px", mt: "18px", mb: "4px" } as const;

function Collector({ c }: { c: Schemas["CollectorOut"] }) {
  const refused = Object.entries(c.refused ?? {});
  const facts: [string, React.ReactNode, boolean?][] = [
    ["listens at", c.listening.join(", ")],
    ["in memory only", plural(c.waiting, "record")],
    ["remembered", plural(c.sessions, "session")],
    [
      "on the way to the database",
      c.spooled
        ? `${plural(c.spooled, "batch", "batches")}, ${bytes(c.spoolBytes)}, ${n(c.behind)} s behind`
        : "nothing",
      c.behind > 30,
    ],
    ["stored since the start", plural(c.records, "record")],
    ["duplicates ignored", plural(c.repeated, "record")],
  ];
  if (c.lost > 0) facts.push(["lost for lack of space", plural(c.lost, "record"), true]);
  if (c.dropped > 0) facts.push(["lost or unreadable in the spool", plural(c.dropped, "batch", "batches"), true]);
  if (c.early > 0) facts.push(["flushed early for lack of space", plural(c.early, "session"), true]);
  if (c.unfinished > 0) facts.push(["at most lost when it was last killed", plural(c.unfinished, "record"), true]);
  if (c.jump)
    facts.push([
      "its clock was set",
      `${n(c.jumps)} ×, last ${atMinute(c.jump.at)} by ${n(Math.round(c.jump.seconds))} s`,
      true,
    ]);
  if (c.tooMany > 0) facts.push(["of senders over the limit", plural(c.tooMany, "packet"), true]);
  return (
    <Box fontSize="12px" mb="6px" opacity={c.quiet ? 0.6 : 1}>
      <Flex gap="4px 22px" wrap="wrap">
        {c.quiet && (
          <Text color="reject">
            The collector “{c.name}” has not reported since {atMinute(c.told)}.
          </Text>
        )}
        {facts.map(([what, is, bad]) => (
          <Text key={what}>
            <chakra.span color="soft">{what}</chakra.span> <chakra.b color={bad ? "reject" : undefined}>{is}</chakra.b>
          </Text>
        ))}
      </Flex>
      {c.trouble && (
        <ProblemNote>
          The database refuses records{c.troubleAt && ` since ${atMinute(c.troubleAt)}`}: {c.trouble}. They are queued
          and retried; {c.lost > 0 ? `${plural(c.lost, "record")} were lost for lack of space` : "none is lost so far"}.
        </ProblemNote>
      )}
      {refused.length > 0 && (
        <ProblemNote>
          Ignored because --exporters does not allow them:{" "}
          {refused.map(([a, k]) => `${a} (${plural(k, "packet")})`).join(", ")}
        </ProblemNote>
      )}
    </Box>
  );
}

/** Batches that the database refuses for what they hold. */
function SetAside() {
  const { data } = api.useQuery("get", "/api/v1/refused-batches", {}, { refetchInterval: 10_000 });
  const drop = api.useMutation("delete", "/api/v1/refused-batches/{id}");
  if (!data || data.length === 0) return null;
  const forget = async (id: string) => {
    try {
      await drop.mutateAsync({ params: { path: { id } } });
      say("Forgotten");
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  return (
    <>
      <Text {...heading}>Set aside</Text>
      <Text color="soft">
        The database rejected the contents of these batches. Download, correct and import them, or delete them.
      </Text>
      {data.map((b) => (
        <Flex
          key={b.id}
          gap="14px"
          py="3px"
          borderBottomWidth="1px"
          borderColor="line2"
          align="baseline"
          data-set-aside
        >
          <Text flexShrink={0}>{atMinute(b.at)}</Text>
          <Text flexShrink={0}>{plural(b.rows, "record")}</Text>
          <Text flex="1" minW="0" truncate title={b.reason}>
            {b.reason}
          </Text>
          <chakra.a
            href={`/api/v1/refused-batches/${encodeURIComponent(b.id)}/records.csv`}
            download
            textDecoration="underline"
          >
            Download
          </chakra.a>
          <Link onClick={() => void forget(b.id)}>Delete</Link>
        </Flex>
      ))}
    </>
  );
}

function Exporters({ all }: { all: Exporter[] }) {
  const heads = ["Exporter", "Sends", "Last seen", "Records/s", "Records", "Missed", "Templates", "Sampling", "Clock"];
  const forget = api.useMutation("delete", "/api/v1/exporters/{addr}");
  return (
    <chakra.table w="100%" fontSize="12.5px">
      <thead>
        <tr>
          {heads.map((h) => (
            <chakra.th
              key={h}
              textAlign={right.has(h) ? "right" : "left"}
              color="soft"
              fontWeight="500"
              px="8px"
              py="3px"
              borderBottomWidth="1px"
              borderColor="line"
            >
              {h}
            </chakra.th>
          ))}
        </tr>
      </thead>
      {all.map((e) => (
        <tbody key={e.collector + e.addr}>
          {e.streams.map((s, i) => (
            <chakra.tr
              key={`${s.protocol} ${s.transport} ${s.port} ${s.domain}`}
              borderTopWidth={i ? 0 : "1px"}
              borderColor="line2"
            >
              <Cell>
                {i === 0 && (
                  <>
                    <b>{e.name}</b> {e.workload && <chakra.span color="soft">{e.addr}</chakra.span>}
                  </>
                )}
              </Cell>
              <Cell>
                {s.protocol}{" "}
                <chakra.span color="soft">
                  {s.transport === "tcp" ? "over TCP, " : ""}
                  {s.protocol === "NetFlow v5" ? "engine" : "domain"} {s.domain}
                </chakra.span>
              </Cell>
              <Cell>
                {i === 0 && (
                  <chakra.span
                    title={utc(e.last)}
                    color={Date.now() - Date.parse(e.last) > 300_000 ? "reject" : undefined}
                  >
                    {ago(e.last)}
                  </chakra.span>
                )}
              </Cell>
              <Cell right>{i === 0 && (e.rate < 10 ? e.rate.toFixed(1) : n(e.rate))}</Cell>
              <Cell right>{n(s.records)}</Cell>
              <Cell right>
                {s.mixed ? (
                  <chakra.span
                    color="reject"
                    data-mixed
                    title="Sequence numbers of two exporters alternate. Give each its own address or observation domain"
                  >
                    unknown: two exporters share it
                  </chakra.span>
                ) : (
                  <chakra.span
                    color={s.missed ? "reject" : "soft"}
                    title={`By sequence numbers, in ${s.unit}; ${plural(s.late, "packet")} came late; restarted ${plural(s.restarts, "time")}`}
                  >
                    {s.missed ? plural(s.missed, s.unit.slice(0, -1)) : "none"}
                  </chakra.span>
                )}
              </Cell>
              <Cell right>
                {s.templates || <chakra.span color="soft">–</chakra.span>}
                {s.untemplated > 0 && (
                  <chakra.span
                    color="open"
                    title="Sets that came before their template are unreadable. Exporters repeat templates every few minutes"
                  >
                    {" "}
                    {n(s.untemplated)} sets before theirs
                  </chakra.span>
                )}
              </Cell>
              <Cell right>
                {s.sampling > 1 ? `1 of ${n(s.sampling)}` : <chakra.span color="soft">all</chakra.span>}
              </Cell>
              <Cell right>
                <chakra.span
                  color={Math.abs(s.skew) > 30 ? "reject" : "soft"}
                  title={Math.abs(s.skew) > 30 ? "Its clock is off; times are corrected by this amount" : undefined}
                >
                  {s.protocol === "sFlow v5"
                    ? "–"
                    : Math.abs(s.skew) < 2
                      ? "right"
                      : `${s.skew > 0 ? "slow" : "fast"} by ${lasting(Math.abs(s.skew))}`}
                </chakra.span>
              </Cell>
            </chakra.tr>
          ))}
          {(e.icmp || e.streams.some((s) => s.icmp)) && (
            <tr>
              <chakra.td colSpan={heads.length} px="8px" pb="4px" fontSize="12px">
                <Types e={e} />
              </chakra.td>
            </tr>
          )}
          {(e.unread.length > 0 || e.streams.length === 0) && (
            <tr>
              <chakra.td colSpan={heads.length} px="8px" pb="4px" color="reject" fontSize="12px">
                {e.streams.length === 0 && <b>{e.name} </b>}
                {e.unread.length > 0 && (
                  <>
                    Not read: {e.unread.map((u) => `${plural(u.packets, "packet")} (${u.reason})`).join(", ")}. The last
                    {e.faultAt && `, ${ago(e.faultAt)}`}: {e.fault}.{" "}
                  </>
                )}
                <Link
                  onClick={() =>
                    void forget
                      .mutateAsync({ params: { path: { addr: e.addr } } })
                      .then(() => caughtUp())
                      .catch((x: unknown) => say(problem(x), "error"))
                  }
                >
                  take it off the list
                </Link>
              </chakra.td>
            </tr>
          )}
        </tbody>
      ))}
    </chakra.table>
  );
}

const writes = {
  destination: "in the destination port",
  source: "in the source port",
  nowhere: "nowhere",
};

/** Where an exporter writes what kind of ICMP message it saw, if its records have no field for that. */
function Types({ e }: { e: Exporter }) {
  const set = api.useMutation("put", "/api/v1/exporters/{addr}/icmp");
  const shown = [
    ...new Set(e.streams.map((s) => s.icmp).filter((x) => x && x !== "unlearnt")),
  ] as (keyof typeof writes)[];
  const change = async (icmp: keyof typeof writes | "") => {
    try {
      await set.mutateAsync({ params: { path: { addr: e.addr } }, body: { icmp } });
      say(icmp ? `From now on, ICMP types of ${e.name} are read as you chose` : `${e.name} is read as detected`);
    } catch (x) {
      say(problem(x), "error");
    }
    await caughtUp(["other"]);
  };
  return (
    <Flex gap="8px" align="baseline" color="soft" data-icmp={e.icmp ?? shown[0] ?? "unlearnt"}>
      <chakra.label display="flex" gap="8px" alignItems="baseline">
        It writes ICMP types
        <chakra.select
          aria-label={`where ${e.name} writes ICMP types`}
          value={e.icmp ?? ""}
          onChange={(x) => void change(x.target.value as keyof typeof writes | "")}
          borderWidth="1px"
          borderColor="line"
          borderRadius="4px"
          bg="paper"
          color="ink"
          px="4px"
        >
          <option value="">
            {shown.length === 0 ? "detect: not seen yet" : `as it shows: ${shown.map((x) => writes[x]).join(" and ")}`}
          </option>
          {Object.entries(writes).map(([x, words]) => (
            <option key={x} value={x}>
              {words}
            </option>
          ))}
        </chakra.select>
      </chakra.label>
      {e.icmp ? (
        <span>says {e.icmpBy}</span>
      ) : (
        shown.length === 0 && <span>until then the type of its ICMP is unknown, and the client is a guess</span>
      )}
    </Flex>
  );
}

const right = new Set(["Records/s", "Records", "Missed", "Templates", "Sampling", "Clock"]);

function Cell({ children, right }: { children: React.ReactNode; right?: boolean }) {
  return (
    <chakra.td px="8px" py="3px" textAlign={right ? "right" : "left"} whiteSpace="nowrap">
      {children}
    </chakra.td>
  );
}

const lasting = (s: number) =>
  s < 120 ? `${n(s)} s` : s < 7200 ? `${n(s / 60)} min` : s < 172_800 ? `${n(s / 3600)} h` : `${n(s / 86_400)} days`;
const ago = (t: string) => {
  const s = (Date.now() - Date.parse(t)) / 1000;
  return s < 3 ? "now" : `${lasting(s)} ago`;
};

/** What people said of ports. */
function SaidOfPorts() {
  const { data } = api.useQuery("get", "/api/v1/service-ports");
  const remove = api.useMutation("delete", "/api/v1/service-ports");
  const [wrong, setWrong] = useState<string>();
  const drop = async (p: Schemas["ServicePortOut"]) => {
    setWrong(undefined);
    try {
      await remove.mutateAsync({ params: { query: { service: p.service, kind: p.kind, place: p.place } } });
      say(`${p.service} is no longer a service there; swapped conversations are swapped back.`);
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <>
      <Text {...heading}>Which end is the server</Text>
      <Text color="soft" maxW="880px">
        It is determined from exporters’ own fields, TCP flags, the number of users of a port, the first packet, and
        registered ports. Each record shows which one decided. To correct it, expand the conversation and swap it;
        corrections are listed here.
      </Text>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {data?.map((p) => (
        <Flex key={p.service + p.kind + p.place} gap="10px" py="2px" align="baseline">
          <chakra.span fontFamily="mono">{p.service}</chakra.span>
          <span>
            is a service{" "}
            {p.kind === "everywhere"
              ? "wherever it is used"
              : p.kind === "group"
                ? `of every member of ${p.place}`
                : `of ${p.place}`}
          </span>
          <chakra.span color="soft" title={p.at && utc(p.at)}>
            set by {p.author}, {p.at && atMinute(p.at)}
            {!p.applied && ", being applied"}
          </chakra.span>
          <Link onClick={() => void drop(p)}>undo</Link>
        </Flex>
      ))}
      {data?.length === 0 && <Text color="soft">No corrections yet.</Text>}
    </>
  );
}
