// Watch: does what is in force hold? What got through, what was held, and what to look at.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { PageLink } from "../frame/PageLink";
import { useAddress } from "../frame/address";
import { useKeys } from "../frame/keys";
import { say } from "../frame/toaster";
import { Chip, Empty, Link, ProblemNote, Sentence, Switches } from "../marks/Controls";
import { atMinute, n, plural } from "../marks/words";
import { Counters } from "./Counters";
import { MatterRow } from "./MatterRow";
import { Picture } from "./Picture";
import { SayDialog, useSay } from "./SayDialog";
import { atOnce, binOf, headline, type Matter, type Period, periods, upTo, waits, type Watch } from "./watch";
import { TellMe } from "./TellMe";
import { Watching } from "./Watching";

const parts = ["matters", "pairs", "rules"] as const;
type Part = (typeof parts)[number];
type Shown = "open" | "all" | "settled";

export function WatchView() {
  const { search, change } = useAddress();
  const period = periods.find((p) => p === search.get("period")) ?? "day";
  const part = parts.find((p) => p === search.get("part")) ?? "matters";
  const at = search.get("at") ?? undefined;
  const until = at && new Date(Date.parse(at) + binOf[period]).toISOString();
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/watch",
    { params: { query: { period, since: at, until } } },
    { refetchInterval: 10_000 }, // time passes
  );
  if (error && !data) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  return (
    <Box h="100%" overflowY="auto" px="20px" py="12px">
      <Flex gap="16px" align="flex-start">
        <Box flex="1" minW="0">
          <Headline w={data} period={period} />
        </Box>
        <Switches
          label="time that is looked at"
          options={periods.map((p) => ({ value: p, shown: p[0]!.toUpperCase() + p.slice(1) }))}
          on={[period]}
          toggle={(p) => change({ period: p === "day" ? null : p, at: null })}
        />
      </Flex>
      <Picture w={data} period={period} at={at} choose={(bin) => change({ at: bin ?? null, part: null })} />
      <Flex align="center" gap="12px" mt="10px" wrap="wrap">
        <Switches
          label="parts of the view"
          options={[
            { value: "matters", shown: "Matters" },
            { value: "pairs", shown: "By pair" },
            { value: "rules", shown: "By rule" },
          ]}
          on={[part]}
          toggle={(p: Part) => change({ part: p === "matters" ? null : p })}
        />
        <Box ml="auto">
          <PageLink to="/evidence">Evidence for an auditor…</PageLink>
        </Box>
        {at && part === "matters" && <Chip onRemove={() => change({ at: null })}>seen {atMinute(at)}</Chip>}
      </Flex>
      {part === "matters" ? <Matters w={data} at={at} /> : <Counters by={part === "pairs" ? "pair" : "rule"} />}
    </Box>
  );
}

function Headline({ w, period }: { w: Watch; period: Period }) {
  const h = headline(w, period);
  const { change } = useAddress();
  const leak = w.matters.find((m) => m.within && waits(m) && (m.kind === "leak" || m.kind === "choke"));
  const drifted = w.matters.find((m) => m.kind === "drift" && !m.ended);
  return (
    <>
      <Sentence>
        {h.time}
        {h.tried && ` ${h.tried}`}
        {h.through ? ", and " : h.calm}
        {h.through && (
          <Link data-through onClick={() => leak && change({ matter: leak.id, part: null })}>
            {h.through}
          </Link>
        )}
        {drifted ? (
          <>
            {": "}
            <Link color="reject" onClick={() => change({ matter: drifted.id, part: null })}>
              {drifted.about.point}{" "}
              {drifted.why.startsWith("drifted") ? "has drifted" : drifted.title.at(-1)?.text.trim()}
            </Link>
          </>
        ) : null}
        .
      </Sentence>
      <Text color="soft" fontSize="12.5px" mt="2px">
        {w.inForce
          ? "Judged by what each point ran at the time. Without a point, nothing leaks or is choked"
          : "No release is in force, so the draft judges what leaks and what is choked"}
        {w.looking && ". Earlier traffic is still being processed…"}
      </Text>
    </>
  );
}

function Matters({ w, at }: { w: Watch; at?: string }) {
  const { search, change } = useAddress();
  const keep = useSay();
  const [asked, setAsked] = useState<{ how: "with" | "settled"; list: Matter[] }>();
  const shown = (search.get("show") as Shown | null) ?? "open";
  const open = search.get("matter");
  const [most, setMost] = useState(atOnce);
  const list = w.matters.filter((m) =>
    m.id === open
      ? true
      : shown === "all" || at
        ? true
        : shown === "settled"
          ? m.state === "settled"
          : m.state !== "settled",
  );
  const tell = (m: Matter) => (how: "seen" | "with" | "settled" | "new") => {
    if (how === "with" || how === "settled") return setAsked({ how, list: [m] });
    keep([m], how).then(
      () => say(how === "seen" ? "Marked as seen; it stays in the list until it is settled" : "Reopened"),
      (e) => say(problem(e), "error"),
    );
  };
  useKeys({ Escape: () => change({ matter: null }) }, !!open);
  const news = list.filter((m) => m.state === "new");
  const rows = upTo(list, most, open);
  return (
    <>
      <Flex align="baseline" gap="14px" mt="8px" pb="4px" borderBottomWidth="1px" borderColor="ink">
        <Text as="h2" fontFamily="heading" fontSize="16px" data-open={w.open}>
          {w.open === 0 ? "Nothing to look at" : `${plural(w.open, "matter")} to look at`}
        </Text>
        <Text color="soft">grouped by who, what and why</Text>
        <Flex ml="auto" gap="12px" align="center">
          {news.length > 1 && (
            <Link
              onClick={() =>
                keep(news, "seen").then(
                  (changed) => say(`${plural(changed, "matter")} seen`),
                  (e) => say(problem(e), "error"),
                )
              }
            >
              All {n(news.length)} seen
            </Link>
          )}
          <Switches
            label="which matters"
            options={[
              { value: "open", shown: "Not settled" },
              { value: "settled", shown: "Settled" },
              { value: "all", shown: "All" },
            ]}
            on={[shown]}
            toggle={(s: Shown) => change({ show: s === "open" ? null : s })}
          />
          <a href="/api/v1/watch/matters.csv" download>
            Export
          </a>
        </Flex>
      </Flex>
      {rows.map((m) => (
        <MatterRow
          key={m.id}
          m={m}
          open={open === m.id}
          toggle={() => change({ matter: open === m.id ? null : m.id }, { replace: true })}
          say={tell(m)}
          matters={w.matters}
        />
      ))}
      {list.length > rows.length && (
        <Flex gap="14px" mt="10px" data-unshown={list.length - rows.length}>
          <Link onClick={() => setMost(rows.length + atOnce)}>
            Show {plural(Math.min(atOnce, list.length - rows.length), "more matter")}
          </Link>
          <Text color="soft">
            {n(rows.length)} of {n(list.length)}; the export has all
          </Text>
        </Flex>
      )}
      {list.length === 0 && (
        <Empty
          title={at ? "No matter at that time" : shown === "settled" ? "No settled matters yet" : "Nothing to look at"}
        >
          {at ? (
            <Link onClick={() => change({ at: null })}>Show all times</Link>
          ) : shown === "settled" ? (
            "Settled matters are listed here with their notes. They reopen if they grow."
          ) : (
            "Leaks, chokes and blocked attempts appear here as they happen, grouped by client and server."
          )}
        </Empty>
      )}
      <TellMe matters={w.matters} />
      <Box mt="12px" pl="100px">
        <Watching w={w} />
      </Box>
      {asked && <SayDialog list={asked.list} how={asked.how} close={() => setAsked(undefined)} />}
    </>
  );
}
