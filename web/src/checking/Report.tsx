// What the draft changes, for the people whose traffic it is: to be printed, sent
// as Markdown, or read by a program.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, problem, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { useState } from "react";
import { Btn, Link, ProblemNote, Select } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { atMinute, n, plural, utc } from "../marks/words";
import { useAgainst } from "./against";
import { kinds } from "./ForPart";

type R = Schemas["Report"];
type FlowGroup = Schemas["FlowGroup"];

export function Report() {
  const w = useWindow();
  const { search, change } = useAddress();
  const against = useAgainst().revision;
  const own = search.get("for") ?? undefined;
  const by = search.get("parts") ?? (own?.startsWith("area:") ? "~area" : own?.startsWith("owner:") ? "~owner" : "app");
  const query = { ...w, against, by, for: own };
  const { data: r, error } = api.useQuery("get", "/api/v1/report", { params: { query } });
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const [all, setAll] = useState(false);
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!r) return <Text color="soft">…</Text>;
  const file = new URLSearchParams(Object.entries(query).flatMap(([k, v]) => (v ? [[k, String(v)]] : [])));
  const busy = r.parts.filter((p) => !quiet(p));
  const still = r.parts.filter(quiet);
  return (
    <Flex direction="column" minH="0" flex="1" mt="8px" _print={{ display: "block" }}>
      <Flex gap="8px" align="center" pb="6px" borderBottomWidth="1px" borderColor="line" _print={{ display: "none" }}>
        <Text color="soft">Part by part, by</Text>
        <Select aria-label="parts of the report" value={by} onChange={(e) => change({ parts: e.target.value })}>
          {kinds.map(([value, word]) => (
            <option key={value} value={value}>
              {word}
            </option>
          ))}
        </Select>
        <Flex ml="auto" gap="6px">
          <Btn onClick={() => window.print()}>Print</Btn>
          <Btn asChild>
            <a href={`/api/v1/report.md?${file}`} download="draft.md">
              Markdown
            </a>
          </Btn>
          <Btn asChild>
            <a href={`/api/v1/report?${file}`} download="draft.json">
              JSON
            </a>
          </Btn>
        </Flex>
      </Flex>
      <Box
        overflowY="auto"
        flex="1"
        pb="30px"
        maxW="1000px"
        data-report={r.changed}
        // It scrolls, and may have nothing in it that the keyboard reaches.
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex
        tabIndex={0}
        role="region"
        aria-label="the report"
        _print={{ overflow: "visible", maxW: "none", fontSize: "10.5px" }}
      >
        <Text as="h2" fontFamily="heading" fontSize="20px" mt="12px">
          What the draft changes: {summary.data?.estate}
          {own && `, for ${own.replace(/^[^:]*:/, "")}`}
        </Text>
        <Text color="soft">
          Draft, revision {r.draft.no} ({r.draft.author}, {r.draft.at && atMinute(r.draft.at)}), against revision{" "}
          {r.before.no} ({r.before.words}). Conversations from {atMinute(r.window[0]!)} to {atMinute(r.window[1]!)}.
        </Text>
        <Flex gap="40px" mt="10px" wrap="wrap" align="flex-start">
          <Numbers r={r} />
          <Box flex="1" minW="300px">
            <Statements list={r.statements} />
          </Box>
        </Flex>
        {(all ? busy : busy.slice(0, partsShown)).map((p) => (
          <Part key={p.name} p={p} />
        ))}
        {!all && busy.length > partsShown && (
          <Btn mt="14px" onClick={() => setAll(true)} data-more-parts>
            Show {plural(busy.length - partsShown, "more part")}
          </Btn>
        )}
        {busy.length === 0 && <Text mt="14px">The draft changes no verdict and leaves no open question.</Text>}
        {busy.length > 0 && still.length > 0 && (
          <Text mt="14px" color="soft">
            No change and no open question for {still.map((p) => p.name).join(", ")}.
          </Text>
        )}
        <Promises r={r} />
      </Box>
    </Flex>
  );
}

/** What is shown at first of the parts, and of what each loses, gains and leaves open. */
const partsShown = 25;
const groupsShown = 12;

const quiet = (p: R["parts"][number]) => p.loses.length + p.gains.length + p.others.length + p.open.length === 0;

function Numbers({ r }: { r: R }) {
  const cell = { px: "12px", py: "3px", textAlign: "right", borderBottomWidth: "1px", borderColor: "line2" } as const;
  return (
    <Box>
      <chakra.table fontSize="12.5px" aria-label="conversations before and now">
        <thead>
          <tr>
            <td />
            {(["permit", "reject", "uncovered"] as const).map((v) => (
              <chakra.th key={v} {...cell} fontWeight="500" color="soft">
                <Mark kind={v} size={9} /> {v}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {(["then", "now"] as const).map((k) => (
            <tr key={k}>
              <chakra.td {...cell} textAlign="left" color="soft" pl="0">
                {k === "then" ? "before" : "draft"}
              </chakra.td>
              {(["permit", "reject", "uncovered"] as const).map((v) => (
                <chakra.td key={v} {...cell}>
                  {n(r[k][v])}
                </chakra.td>
              ))}
            </tr>
          ))}
        </tbody>
      </chakra.table>
      <Text mt="4px">
        <b>{plural(r.changed, "conversation")}</b> change verdict.
      </Text>
    </Box>
  );
}

function Statements({ list }: { list: R["statements"] }) {
  if (list.length === 0) return <Text color="soft">The policy has the same statements.</Text>;
  return (
    <Box fontFamily="mono" fontSize="12px">
      {list.map((s, i) => (
        <Text key={i} color={s.change === "added" ? "permit" : "reject"} pl="14px" textIndent="-14px">
          {`${s.change === "added" ? "+" : "−"} ${s.text}`}
        </Text>
      ))}
    </Box>
  );
}

function Part({ p }: { p: R["parts"][number] }) {
  const all = p.now.permit + p.now.reject + p.now.uncovered;
  return (
    <Box mt="20px" data-report-part={p.name}>
      <Text as="h3" fontFamily="heading" fontSize="16px" _print={{ breakAfter: "avoid" }}>
        {p.name}{" "}
        {p.owner && (
          <chakra.span color="soft" fontSize="13px">
            {p.owner}
          </chakra.span>
        )}
      </Text>
      <Text color="soft">
        {plural(all, "conversation")}: {n(p.now.permit)} permit, {n(p.now.reject)} reject, {n(p.now.uncovered)}{" "}
        uncovered
      </Text>
      <FlowGroups head="Loses" list={p.loses} />
      <FlowGroups head="Gains" list={p.gains} />
      <FlowGroups head="Other changes" list={p.others} />
      <FlowGroups head="Open questions" list={p.open} />
      <FlowGroups head="Rightly rejected" list={p.accepted} />
    </Box>
  );
}

function FlowGroups({ head, list }: { head: string; list: FlowGroup[] }) {
  const [all, setAll] = useState(false);
  if (list.length === 0) return null;
  const shown = all || list.length <= groupsShown + 2 ? list : list.slice(0, groupsShown);
  const rest = list.slice(shown.length);
  const cell = {
    py: "2px",
    pr: "10px",
    textAlign: "left",
    verticalAlign: "top",
    borderBottomWidth: "1px",
    borderColor: "line2",
  } as const;
  return (
    <chakra.table fontSize="12.5px" mt="6px" w="100%" data-flow-groups={head} _print={{ fontSize: "9.5px" }}>
      <thead>
        <tr>
          <chakra.th {...cell} fontWeight="600" w="44%">
            {head}
          </chakra.th>
          <chakra.th {...cell} fontWeight="500" color="soft" w="150px">
            before → draft
          </chakra.th>
          <chakra.th {...cell} fontWeight="500" color="soft" textAlign="right" w="60px">
            conv.
          </chakra.th>
          <chakra.th {...cell} fontWeight="500" color="soft" w="90px">
            last seen
          </chakra.th>
          <chakra.th {...cell} fontWeight="500" color="soft">
            why
          </chakra.th>
        </tr>
      </thead>
      <tbody>
        {shown.map((s, i) => (
          <chakra.tr key={i} _print={{ breakInside: "avoid" }}>
            <chakra.td {...cell}>
              <b>{s.client}</b> → <b>{s.server}</b> on {s.service}
            </chakra.td>
            <chakra.td {...cell} whiteSpace="nowrap">
              {s.was !== s.is && (
                <>
                  <Mark kind={s.was} size={9} /> {s.was} →{" "}
                </>
              )}
              <Mark kind={s.is} size={9} /> {s.is}
            </chakra.td>
            <chakra.td {...cell} textAlign="right">
              {n(s.conversations)}
            </chakra.td>
            <chakra.td {...cell} color="soft" whiteSpace="nowrap" title={utc(s.last)}>
              {atMinute(s.last)}
            </chakra.td>
            <chakra.td {...cell} color="soft">
              {[s.rule, s.why].filter(Boolean).join(" — ") || "no rule decides it"}
            </chakra.td>
          </chakra.tr>
        ))}
        {rest.length > 0 && (
          <tr>
            <chakra.td {...cell} colSpan={5}>
              <Link onClick={() => setAll(true)} data-more-groups={rest.length}>
                and {n(rest.length)} more,{" "}
                {plural(
                  rest.reduce((s, x) => s + x.conversations, 0),
                  "conversation",
                )}
              </Link>
            </chakra.td>
          </tr>
        )}
      </tbody>
    </chakra.table>
  );
}

function Promises({ r }: { r: R }) {
  return (
    <>
      {r.assertions.length > 0 && (
        <Box mt="20px">
          <Text as="h3" fontFamily="heading" fontSize="16px">
            Assertions
          </Text>
          {r.assertions.map((a) => (
            <Text key={a.sentence}>
              <Mark kind={a.result === "holds" ? "permit" : a.result === "open" ? "uncovered" : "reject"} size={10} />{" "}
              <b>{a.result}</b> {a.sentence}{" "}
              <chakra.span color="soft">{[a.note, a.example].filter(Boolean).join(": ")}</chakra.span>
            </Text>
          ))}
        </Box>
      )}
      {r.probes.length > 0 && (
        <Box mt="20px">
          <Text as="h3" fontFamily="heading" fontSize="16px">
            Probes
          </Text>
          {r.probes.map((p) => (
            <Text key={p.question}>
              <b>{p.asExpected ? "as expected" : "not as expected"}</b> {p.question}, expected {p.want}: {p.words}{" "}
              <chakra.span color="soft">{p.reason}</chakra.span>
            </Text>
          ))}
        </Box>
      )}
    </>
  );
}
