// Evidence, as it is read and printed: the answer, the days, and what it is made from.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { type ReactNode, useId, useState } from "react";
import { useParams } from "react-router";
import { api, problem } from "../api/client";
import { PageLink } from "../frame/PageLink";
import { say } from "../frame/toaster";
import { Btn, Link, ProblemNote } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { Days } from "./Days";
import { type Evidence, inUTC, lasted, period, states, timeUTC } from "./evidence";

export function EvidencePage() {
  const id = Number(useParams().id);
  const { data, error } = api.useQuery("get", "/api/v1/evidence/{id}", { params: { path: { id } } });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  const e = data.evidence;
  return (
    <Box
      h="100%"
      overflowY="auto"
      px="20px"
      py="12px"
      data-evidence={id}
      _print={{ overflow: "visible", h: "auto", p: 0, fontSize: "10.5px" }}
    >
      <Tools
        id={id}
        prints={data.prints}
        promise={e.promise.kind === "group" ? `group ${e.promise.text}` : e.promise.text}
      />
      <Box maxW="960px" _print={{ maxW: "none" }} css={{ counterReset: "part" }}>
        <Text color="soft" fontSize="12.5px">
          Evidence {id}: {period(e.from, e.to)}
        </Text>
        <Text as="h1" fontFamily="heading" fontSize="24px" lineHeight="1.2">
          {e.promise.words}
        </Text>
        <Text fontFamily="heading" fontSize="17px" mt="6px" data-answer={e.counts.held}>
          {e.sentence}
        </Text>
        <Days days={e.days} group={e.promise.kind === "group"} />
        <Promised e={e} />
        <Breaks e={e} />
        <May e={e} />
        <Did e={e} />
        <Exceptions e={e} />
        <Coverage e={e} />
        <Changes e={e} />
        <MadeFrom e={e} id={id} fingerprint={data.fingerprint} />
      </Box>
    </Box>
  );
}

function Tools({ id, prints, promise }: { id: number; prints: boolean; promise: string }) {
  const [busy, setBusy] = useState(false);
  const pdf = async () => {
    setBusy(true);
    try {
      const r = await fetch(`/api/v1/evidence/${id}/pdf`);
      if (!r.ok) throw new Error(((await r.json()) as { detail?: string }).detail ?? "it cannot be printed");
      const a = document.createElement("a");
      a.href = URL.createObjectURL(await r.blob());
      a.download = /filename="([^"]*)"/.exec(r.headers.get("Content-Disposition") ?? "")?.[1] ?? "evidence.pdf";
      a.click();
      setTimeout(() => URL.revokeObjectURL(a.href), 60_000);
    } catch (e) {
      say(e instanceof Error ? e.message : problem(e), "error");
    }
    setBusy(false);
  };
  return (
    <Flex gap="8px" mb="8px" align="center" _print={{ display: "none" }}>
      <PageLink to="/evidence">All evidence</PageLink>
      <PageLink to={`/evidence?make=${encodeURIComponent(promise)}`}>For another period…</PageLink>
      <Flex ml="auto" gap="6px">
        <Btn onClick={() => window.print()}>Print</Btn>
        {prints && (
          <Btn loading={busy} loadingText="Printing the PDF…" onClick={() => void pdf()}>
            PDF
          </Btn>
        )}
        <Btn asChild>
          <a href={`/api/v1/evidence/${id}/signed`} download>
            Signed JSON
          </a>
        </Btn>
      </Flex>
    </Flex>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  const id = useId();
  return (
    <Box as="section" mt="22px" aria-labelledby={id} css={{ counterIncrement: "part" }}>
      <Text
        as="h2"
        id={id}
        fontFamily="heading"
        fontSize="16px"
        pb="3px"
        mb="5px"
        borderBottomWidth="1px"
        borderColor="ink"
        _print={{ breakAfter: "avoid" }}
      >
        <chakra.span _before={{ content: 'counter(part) ". "' }}>{title}</chakra.span>
      </Text>
      {children}
    </Box>
  );
}

const cell = {
  py: "2px",
  pr: "12px",
  textAlign: "left",
  verticalAlign: "top",
  borderBottomWidth: "1px",
  borderColor: "line2",
} as const;

function Table({ label, heads, rows }: { label: string; heads: string[]; rows: ReactNode[][] }) {
  const [all, setAll] = useState(false);
  const most = 40;
  const shown = all || rows.length <= most ? rows : rows.slice(0, most);
  const numbers = (h: string) => h.startsWith("#");
  return (
    <>
      <chakra.table fontSize="12.5px" w="100%" aria-label={label} _print={{ fontSize: "9.5px" }}>
        <thead>
          <tr>
            {heads.map((h) => (
              <chakra.th key={h} {...cell} fontWeight="500" color="soft" textAlign={numbers(h) ? "right" : "left"}>
                {h.replace("#", "")}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.map((r, i) => (
            <chakra.tr key={i} _print={{ breakInside: "avoid" }}>
              {r.map((c, k) => (
                <chakra.td key={k} {...cell} textAlign={numbers(heads[k]!) ? "right" : "left"}>
                  {c}
                </chakra.td>
              ))}
            </chakra.tr>
          ))}
        </tbody>
      </chakra.table>
      {shown.length < rows.length && (
        <Text mt="4px">
          <Link onClick={() => setAll(true)}>Show {n(rows.length - shown.length)} more</Link>
          <chakra.span color="soft"> (the signed JSON has all of them)</chakra.span>
        </Text>
      )}
    </>
  );
}

const Code = ({ children }: { children: ReactNode }) => (
  <chakra.code fontFamily="mono" fontSize="0.92em">
    {children}
  </chakra.code>
);

function Promised({ e }: { e: Evidence }) {
  return (
    <Part title="The promise">
      <Text mb="4px">
        <Code>{e.promise.text}</Code>
      </Text>
      {e.versions.length === 0 ? (
        <Text>
          In this period, no release was in force at a point that guards it. The access and traffic below are judged by
          the draft as it was then.
        </Text>
      ) : (
        <Table
          label="releases that were in force"
          heads={["release", "title", "released", "in force", "contains the promise", "SHA-256 of its text"]}
          rows={e.versions.map((v) => [
            `${v.release} (revision ${v.revision})`,
            v.title,
            `${v.author}, ${timeUTC(v.at)}`,
            `${timeUTC(v.from)} to ${timeUTC(v.until)}`,
            v.promised ? "yes" : "no; checked anyway",
            <Code key="sum">{v.sha256.slice(0, 16)}…</Code>,
          ])}
        />
      )}
      <Text mt="4px" color="soft">
        At the end it protects {plural(e.membersLast.length, "workload")}: {few(e.membersLast)}.
      </Text>
      {e.memberChanges.map((m, i) => (
        <Text key={i}>
          {timeUTC(m.at)}: <b>{m.name}</b> {m.joined ? "joined" : "left"} ({m.cause.join("; ")})
        </Text>
      ))}
    </Part>
  );
}

const few = (list: string[]) =>
  list.length <= 12 ? list.join(", ") : `${list.slice(0, 12).join(", ")} and ${n(list.length - 12)} more`;

function Breaks({ e }: { e: Evidence }) {
  if (e.promise.kind === "group") return null;
  const words = { broken: "broke it", open: "left some of it uncovered", undefined: "lacked its groups" };
  return (
    <Part title="When the policy in force broke the promise">
      {e.breaks.length === 0 ? (
        <Text>{e.versions.length ? "Never while a release was in force." : "No release was in force."}</Text>
      ) : (
        e.breaks.map((b, i) => (
          <Box key={i} mb="6px" _print={{ breakInside: "avoid" }}>
            <b>
              {timeUTC(b.from)} to {b.until ? timeUTC(b.until) : "the end of the period"}
            </b>{" "}
            ({lasted(b.from, b.until ?? e.to)}): release {b.release} {words[b.outcome]}
            {b.example && (
              <>
                , for example {b.example}
                {b.rule && (
                  <>
                    , by line {b.line}: <Code>{b.rule}</Code>
                  </>
                )}
              </>
            )}
            <Text color="soft">
              Began with: {b.cause.join("; ")}
              {b.ended.length > 0 && `. Ended with: ${b.ended.join("; ")}`}
            </Text>
          </Box>
        ))
      )}
    </Part>
  );
}

function May({ e }: { e: Evidence }) {
  const said = (list: Evidence["mayFirst"]) => JSON.stringify(list.map((w) => [w.rule, w.clients]));
  const same = said(e.mayFirst) === said(e.mayLast);
  const ways = (list: Evidence["mayFirst"]) => (
    <Table
      label="who may reach it"
      heads={["by", "rule", "clients"]}
      rows={list.map((w) => [
        w.release ? `release ${w.release}, line ${w.line}` : `the draft, line ${w.line}`,
        <Code key="rule">{w.rule}</Code>,
        `${n(w.clients.length)}: ${few(w.clients)}`,
      ])}
    />
  );
  return (
    <Part title="Who may reach it">
      <Text color="soft">
        {same ? (e.mayChanges.length ? "At the start and again at the end" : "All the time") : "At the start"}
      </Text>
      {e.mayFirst.length ? ways(same ? e.mayLast : e.mayFirst) : <Text>Nobody.</Text>}
      {!same && (
        <>
          <Text color="soft" mt="8px">
            At the end
          </Text>
          {e.mayLast.length ? ways(e.mayLast) : <Text>Nobody.</Text>}
        </>
      )}
      {e.mayChanges.length > 0 && (
        <Box mt="8px">
          <Table
            label="changes of who may reach it"
            heads={["when", "rule", "change", "with"]}
            rows={e.mayChanges.map((c) => [
              timeUTC(c.at),
              <Code key="rule">{c.rule}</Code>,
              [c.added.length > 0 && `+ ${few(c.added)}`, c.removed.length > 0 && `− ${few(c.removed)}`]
                .filter(Boolean)
                .join(" "),
              c.cause.join("; "),
            ])}
          />
        </Box>
      )}
    </Part>
  );
}

/** What the verdict was, and by what. */
const by = (c: Evidence["callers"][number]) =>
  `${c.verdict === "uncovered" ? "uncovered" : c.verdict === "permit" ? "permitted" : "rejected"}, by ${
    c.release ? `release ${c.release}` : "the draft"
  }`;

function Did({ e }: { e: Evidence }) {
  const carried = (s: Evidence["total"]) => s.permitted + s.uncovered + s.leaks;
  return (
    <Part title="Who reached it">
      {e.callers.length === 0 ? (
        <Text>No traffic to it was seen.</Text>
      ) : (
        <>
          <Text mb="4px">
            {plural(carried(e.total), "connection was", "connections were")} carried, {n(e.total.held + e.total.chokes)}{" "}
            dropped. {n(e.total.leaks)} leaked: rejected, yet carried
            {e.total.leaks > 0 && e.versions.length === 0 ? " by the draft" : ""}.
            {e.total.unclear > 0 &&
              ` ${plural(e.total.unclear, "connection is", "connections are")} unclear, because a point changed in the hour in which they were counted.`}
          </Text>
          <Table
            label="callers"
            heads={["caller", "reached", "verdict", "#carried", "#dropped", "first (UTC)", "last (UTC)", "#days"]}
            rows={e.callers.map((c) => [
              <>
                {c.against && (
                  <chakra.span color="reject" fontWeight="600">
                    contradicts it:{" "}
                  </chakra.span>
                )}
                <b>{c.name}</b>
                {c.label !== c.name && <chakra.span color="soft"> {c.label}</chakra.span>}
              </>,
              `${c.server} on ${c.service}`,
              by(c),
              n(carried(c.sums)),
              n(c.sums.held + c.sums.chokes),
              inUTC(c.first),
              inUTC(c.last),
              n(c.days),
            ])}
          />
          {e.moreCallers > 0 && (
            <Text color="soft">{n(e.moreCallers)} more callers are counted above but not listed.</Text>
          )}
        </>
      )}
    </Part>
  );
}

function Exceptions({ e }: { e: Evidence }) {
  const uncovered = e.callers.filter((c) => c.verdict === "uncovered" && c.sums.uncovered > 0);
  return (
    <Part title="Exceptions">
      {e.exemptions.length === 0 ? (
        <Text>No protected workload was exempt.</Text>
      ) : (
        <Table
          label="exemptions"
          heads={["exempt", "why", "owner", "from", "until", "by"]}
          rows={e.exemptions.map((x) => [
            <b key="name">{x.name}</b>,
            x.reason,
            x.owner,
            timeUTC(x.from),
            timeUTC(x.until),
            x.author,
          ])}
        />
      )}
      <Text mt="4px">
        {uncovered.length === 0
          ? "A rule covers all traffic that was carried."
          : `${plural(e.total.uncovered, "connection was", "connections were")} carried but uncovered: ${few([...new Set(uncovered.map((c) => c.name))])}.`}
      </Text>
    </Part>
  );
}

function Coverage({ e }: { e: Evidence }) {
  return (
    <Part title="Which points guarded it">
      {e.points.length === 0 ? (
        <Text>None.</Text>
      ) : (
        <Table
          label="points"
          heads={["point", "guards", "#workloads", "ran"]}
          rows={e.points.map((p) => [
            <b key="name">{p.name}</b>,
            <Code key="guards">{p.guards}</Code>,
            n(p.members),
            <>
              {p.held.map((h, i) => (
                <Text key={i}>
                  {timeUTC(h.from)} to {timeUTC(h.until)}:{" "}
                  {h.mode === "silent"
                    ? "silent: what it ran is unknown"
                    : h.mode === "drifted"
                      ? `drifted from release ${h.release}: ${h.words ?? ""}`
                      : h.release
                        ? `release ${h.release}, ${h.mode === "enforce" ? "enforced" : "only observed"}`
                        : "nothing"}
                </Text>
              ))}
            </>,
          ])}
        />
      )}
    </Part>
  );
}

function Changes({ e }: { e: Evidence }) {
  return (
    <Part title="Changes to the policy">
      {e.changes.length === 0 ? (
        <Text>None.</Text>
      ) : (
        <Table
          label="changes"
          heads={["when", "who", "what"]}
          rows={e.changes.map((c) => [timeUTC(c.at), c.author, c.words])}
        />
      )}
      {e.gaps.length > 0 && (
        <Box mt="8px">
          <Text fontWeight="600">Gaps in the data:</Text>
          {e.gaps.map((g, i) => (
            <Text key={i}>
              {timeUTC(g.from)} to {timeUTC(g.until)}: {g.words}
            </Text>
          ))}
        </Box>
      )}
    </Part>
  );
}

function MadeFrom({ e, id, fingerprint }: { e: Evidence; id: number; fingerprint: string }) {
  return (
    <Part title="How this was made">
      {e.notes.map((x) => (
        <Text key={x}>{x}</Text>
      ))}
      <Text>
        Each day gets the first state that applies: {states.map((s) => `${s.word} if ${s.means}`).join("; ")}.
      </Text>
      <Box mt="6px">
        <Table
          label="inputs"
          heads={["made from", "#lines", "SHA-256"]}
          rows={e.inputs.map((x) => [
            <>
              <a href={`/api/v1/evidence/${id}/inputs/${x.name}`} download>
                {x.name}
              </a>
              <chakra.span color="soft">: {x.words}</chakra.span>
            </>,
            n(x.lines),
            <chakra.code
              key="sum"
              fontFamily="mono"
              fontSize="10.5px"
              wordBreak="break-all"
              _print={{ fontSize: "7.5px" }}
            >
              {x.sha256}
            </chakra.code>,
          ])}
        />
      </Box>
      <Text mt="6px">
        Made {timeUTC(e.made)} by {e.by}. Check the signed JSON with <Code>orchard verify-evidence FILE</Code>; it must
        report the key <Code>{fingerprint}</Code>.
      </Text>
    </Part>
  );
}
