// A matter that is open: its conversations down to the single record and the why, the
// point that it speaks of, and actions about it.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { useCarried, useWhy } from "../frame/address";
import { say as tell } from "../frame/toaster";
import { Records } from "../ledger/Records";
import { SettleHere, useSettling } from "../ledger/Settle";
import type { Target } from "../ledger/settling";
import { Btn, Link, ProblemNote } from "../marks/Controls";
import { atMinute, atSecond, n, onDay, plural } from "../marks/words";
import { TellOfThis } from "./TellMe";
import type { Matter } from "./watch";

type Talk = Schemas["MatterTalk"];
type Page = Schemas["MatterPage"];

type Props = { m: Matter; say: (how: "seen" | "with" | "settled" | "new") => void; matters: Matter[] };

export function Opened({ m, say, matters }: Props) {
  const [day, setDay] = useState<string>();
  const { data, error } = api.useQuery("get", "/api/v1/watch/matters/{id}", {
    params: { path: { id: m.id }, query: { day } },
  });
  return (
    <SettleHere query={{}}>
      <Box pl="28px" pr="10px" pb="10px" data-opened={m.id}>
        {error && <ProblemNote>{problem(error)}</ProblemNote>}
        {!data && !error && <Text color="soft">…</Text>}
        {data && (
          <>
            {data.talks.length > 0 && <Talks page={data} />}
            {!m.standing && data.talks.length === 0 && (
              <Text color="soft">
                {data.day
                  ? `The conversations of ${onDay(data.day)} are deleted, or their names have changed since.`
                  : "Its conversations are deleted."}
              </Text>
            )}
            {data.onDays.length > 1 && (
              <Flex gap="8px" mt="4px" wrap="wrap" fontSize="12px" align="baseline">
                <Text color="soft">Seen on</Text>
                {data.onDays.slice(0, 12).map((d) => (
                  <Link
                    key={d.day}
                    onClick={() => setDay(d.day.slice(0, 10))}
                    aria-pressed={d.day.startsWith(data.day)}
                    fontWeight={d.day.startsWith(data.day) ? "600" : "400"}
                    title={plural(d.connections, "connection")}
                  >
                    {onDay(d.day)}
                  </Link>
                ))}
                {data.onDays.length > 12 && <Text color="soft">and {n(data.onDays.length - 12)} more days</Text>}
              </Flex>
            )}
            {data.points.map((p) => (
              <Text key={p.name} mt="6px">
                <b>{p.name}</b> {p.state === "holds" ? `has loaded its plan (${p.mode})` : p.state}
                {p.words && <chakra.span color="reject">: {p.words}</chakra.span>}
              </Text>
            ))}
            <Actions m={m} page={data} say={say} matters={matters} />
            {data.log.length > 0 && (
              <Box mt="8px" fontSize="12px" color="soft">
                {data.log.slice(0, 6).map((x) => (
                  <Text key={x.at + x.words}>
                    {atMinute(x.at)} {x.author && `${x.author}: `}
                    {x.words}
                  </Text>
                ))}
              </Box>
            )}
          </>
        )}
      </Box>
    </SettleHere>
  );
}

const heads = ["Client", "Server", "Service", "Times", "Last", "Reported by", ""];

function Talks({ page }: { page: Page }) {
  const [records, setRecords] = useState<string>();
  const key = (c: Talk) => `${c.client.addr} ${c.server.addr} ${c.service} ${c.first}`;
  return (
    <Box bg="sheet" borderWidth="1px" borderColor="line2" maxH="310px" overflow="auto">
      <chakra.table w="100%" css={{ "& td, & th": { padding: "4px 8px", textAlign: "left" } }}>
        <thead>
          <tr>
            {heads.map((h) => (
              <chakra.th
                key={h}
                color="soft"
                fontWeight="500"
                fontSize="12px"
                position="sticky"
                top="0"
                bg="sheet"
                zIndex="1"
              >
                {h || <chakra.span srOnly>actions</chakra.span>}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {page.talks.map((c) => (
            <TalkRow
              key={key(c)}
              c={c}
              open={records === key(c)}
              toggle={() => setRecords(records === key(c) ? undefined : key(c))}
            />
          ))}
        </tbody>
      </chakra.table>
      {page.total > page.talks.length && (
        <Text px="8px" py="4px" color="soft" fontSize="12px">
          The latest {n(page.talks.length)} of {n(page.total)}.
        </Text>
      )}
    </Box>
  );
}

function TalkRow({ c, open, toggle }: { c: Talk; open: boolean; toggle: () => void }) {
  const { show } = useWhy();
  const counts = { permit: 0, reject: 0, uncovered: 0, [c.verdict]: 1 };
  const target: Target = {
    words: `${c.client.name} → ${c.server.name} on ${c.service}`,
    service: c.service,
    client: c.client.addr,
    server: c.server.addr,
    counts,
  };
  const ways = useSettling(target);
  return (
    <>
      <chakra.tr borderTopWidth="1px" borderColor="line2" data-talk={c.service}>
        <td>
          {c.client.name} <Aside of={c.client} />
        </td>
        <td>
          {c.server.name} <Aside of={c.server} />
        </td>
        <chakra.td fontFamily="mono" fontSize="12px">
          {c.service}
        </chakra.td>
        <chakra.td fontVariantNumeric="tabular-nums" title={`${n(c.carried)} carried, ${n(c.dropped)} dropped`}>
          {n(c.connections)}
        </chakra.td>
        <chakra.td whiteSpace="nowrap">{atSecond(c.last)}</chakra.td>
        <chakra.td maxW="150px" truncate title={c.observer}>
          {c.observer}
        </chakra.td>
        <chakra.td whiteSpace="nowrap">
          <Flex gap="9px" justify="flex-end">
            <Link
              onClick={() =>
                show({ kind: "flow", client: c.client.addr, server: c.server.addr, service: c.service, at: c.last })
              }
            >
              why
            </Link>
            <Link onClick={toggle} aria-expanded={open}>
              records
            </Link>
            {ways.map((w) => (
              <Link key={w.how} onClick={w.run}>
                {w.words}
              </Link>
            ))}
          </Flex>
        </chakra.td>
      </chakra.tr>
      {open && (
        <tr>
          <td colSpan={heads.length}>
            <Records c={c} />
          </td>
        </tr>
      )}
    </>
  );
}

function Aside({ of }: { of: Talk["client"] }) {
  return (
    <chakra.span color="soft" fontSize="12px">
      {of.name !== of.addr && `${of.addr}, `}
      {of.label !== of.name && of.label}
    </chakra.span>
  );
}

/** What can be done about a matter, from where one stands. */
function Actions({ m, page, say, matters }: Props & { page: Page }) {
  const navigate = useNavigate();
  const carried = useCarried();
  const again = api.useMutation("post", "/api/v1/points/{name}/again");
  const point = page.points.find((p) => ["drifted", "refused", "went back"].includes(p.state));
  const { who, what } = m.about;
  const one = new Set(page.talks.map((t) => t.service)).size === 1;
  const pointed = who && what && who.kind !== "many" && what.kind !== "many" && !m.about.scan && page.talks.length > 0;
  const verdicts = { permit: 0, reject: 0, uncovered: 0 };
  for (const t of page.talks) verdicts[t.verdict]++;
  const ways = useSettling({
    words: `all of ${m.title.map((p) => p.text).join("")}`,
    near: what ? `${what.kind} ${what.text} ${what.lack ?? ""}` : undefined,
    far: who ? `${who.kind} ${who.text} ${who.lack ?? ""}` : undefined,
    service: one ? page.talks[0]?.service : undefined,
    counts: verdicts,
  });
  const putBack = async (name: string) => {
    try {
      await again.mutateAsync({ params: { path: { name } } });
      tell(`${name} reloads its plan`);
    } catch (e) {
      tell(problem(e), "error");
    }
    await caughtUp();
  };
  const places: Record<string, [string, string]> = {
    drift: [`/release?point=${m.about.point ?? ""}`, "Its page"],
    "silent point": [`/release?point=${m.about.point ?? ""}`, "Its page"],
    "silent exporter": ["/flows/exporters", "The exporters"],
    gap: ["/flows/exporters", "The exporters"],
    assertion: ["/check?part=assertions", "The assertions"],
    member: [`/groups/${encodeURIComponent(m.about.group ?? "")}`, "The group"],
    ending: m.about.workload
      ? [`/workloads/${encodeURIComponent(m.about.workload)}`, "The workload"]
      : ["/policy", "The policy"],
  };
  const place = places[m.kind];
  return (
    <Flex gap="6px" mt="8px" wrap="wrap" align="center" data-actions>
      {point && (
        <Btn primary loading={again.isPending} onClick={() => void putBack(point.name)}>
          Restore {point.name}
        </Btn>
      )}
      {place && (
        <Btn onClick={() => void navigate(place[0] + (carried && !place[0].includes("?") ? carried : ""))}>
          {place[1]}
        </Btn>
      )}
      {pointed &&
        ways.map((w) => (
          <Btn key={w.how} onClick={w.run}>
            {w.words}
          </Btn>
        ))}
      <NeverAgain m={m} page={page} />
      <TellOfThis m={m} matters={matters} />
      {m.state === "new" && <Btn onClick={() => say("seen")}>Seen</Btn>}
      <Btn onClick={() => say("with")}>Assign…</Btn>
      {m.state === "settled" ? (
        <Btn onClick={() => say("new")}>Reopen</Btn>
      ) : (
        <Btn onClick={() => say("settled")}>Settle with a note…</Btn>
      )}
    </Flex>
  );
}

/** What leaked between two groups can be promised never to be permitted. */
function NeverAgain({ m, page }: { m: Matter; page: Page }) {
  const take = api.useMutation("post", "/api/v1/settle");
  const { data } = api.useQuery("get", "/api/v1/policy", {});
  const { who, what } = m.about;
  if (who?.kind !== "group" || what?.kind !== "group" || !["leak", "held", "newcomer"].includes(m.kind)) return null;
  const services = [...new Set(page.talks.map((t) => t.service))];
  const line = `assert never ${quoted(who.text)} -> ${quoted(what.text)} on ${services.length ? services.join(", ") : "any"}`;
  const run = async () => {
    try {
      await take.mutateAsync({ body: { revision: data?.revision ?? 0, lines: [line], before: 0 } });
      tell("The draft now asserts that this is never permitted");
      await caughtUp();
    } catch (e) {
      tell(problem(e), "error");
    }
  };
  if (data?.statements.some((s) => s.text.startsWith(line))) return null;
  return (
    <Btn loading={take.isPending} title={line} onClick={() => void run()}>
      Assert never
    </Btn>
  );
}

const quoted = (name: string) => (/^[a-z][\w-]*$/i.test(name) ? name : JSON.stringify(name));
