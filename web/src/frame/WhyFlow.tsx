// Why a flow gets its verdict.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { Btn, Link, ProblemNote } from "../marks/Controls";
import { Mark, verdictColor } from "../marks/Marks";
import { atMinute, n, plural, utc } from "../marks/words";
import { useAddress, useWhy, useWindow, type Subject } from "./address";
import { Reasons } from "./Reasons";
import { say } from "./toaster";
import { Chain, ChainLink, WhyTitle } from "./WhyParts";

type Why = Schemas["Why"];
type Flow = Extract<Subject, { kind: "flow" }>;

export function WhyFlow({ subject }: { subject: Flow }) {
  const w = useWindow();
  const { client, server, service, at } = subject;
  const { search } = useAddress();
  const against = Number(search.get("against")) || undefined;
  const { data: why, error } = api.useQuery("get", "/api/v1/why", {
    params: { query: { ...w, client, server, service, at, against } },
  });
  const { show } = useWhy();
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!why) return <Text color="soft">…</Text>;
  const titles = {
    permit: "Why is this permitted?",
    reject: "Why is this rejected?",
    uncovered: "Why is this uncovered?",
  };
  const unknown = why.seen ? why.seen.connections - why.seen.carried - why.seen.dropped : 0;
  const end = (e: Why["client"]) =>
    e.workload ? (
      <Link onClick={() => show({ kind: "workload", id: e.workload! })}>{e.name}</Link>
    ) : (
      <span>{e.name}</span>
    );
  return (
    <Box data-why={why.verdict}>
      <WhyTitle>{titles[why.verdict]}</WhyTitle>
      <Text fontWeight="600" color={verdictColor(why.verdict)}>
        <Mark kind={why.verdict} /> {why.verdict}
      </Text>
      <Text mt="2px">
        {end(why.client)} → {end(why.server)}
      </Text>
      <Text color="soft">
        <chakra.span fontFamily="mono" fontSize="12px" color="ink">
          {why.service}
        </chakra.span>{" "}
        {why.client.addr} → {why.server.addr}
      </Text>
      {why.before && (
        <Box mt="6px" borderLeftWidth="2px" borderColor="line" pl="8px" data-before={why.before.verdict}>
          <Text color="soft">In revision {against}:</Text>
          <Text>
            <Mark kind={why.before.verdict} size={10} /> {why.before.verdict}
            {why.before.rule ? (
              <chakra.span color="soft">
                , by line {why.before.rule.line}: {why.before.rule.sentence}
              </chakra.span>
            ) : (
              <chakra.span color="soft">: no rule matched</chakra.span>
            )}
          </Text>
          <Steps why={why.before} title="Every rule considered then" />
        </Box>
      )}
      <Chain>
        {why.rule ? (
          <ChainLink>
            <Link onClick={() => show({ kind: "rule", line: why.rule!.line })} fontWeight="600">
              {why.rule.sentence}
            </Link>
            <Text color="soft">
              line {why.rule.line}, in {why.rule.layer}, the first of {plural(why.rules, "rule")} that matches
              {why.rule.author && `; written by ${why.rule.author}, ${atMinute(why.rule.at!)}`}
            </Text>
            {why.rule.note && <Text color="soft">“{why.rule.note}”</Text>}
          </ChainLink>
        ) : (
          <ChainLink open>
            <b>No rule matches</b> of {n(why.rules)}.{why.closest && <Closest step={why.closest} />}
          </ChainLink>
        )}
        {why.hints.map((hint) => (
          <TagHint key={hint.workload + hint.key} hint={hint} />
        ))}
        <Belongs title="The client" list={why.clientIs} outside={!why.client.workload} />
        <Belongs title="The server" list={why.serverIs} outside={!why.server.workload} />
        {why.seen && (
          <ChainLink>
            {why.seen.carried > 0 && (
              <Text>
                It was <b>carried</b>: {plural(why.seen.carried, "connection")}
              </Text>
            )}
            {why.seen.dropped > 0 && (
              <Text>
                It was <b>dropped</b>: {plural(why.seen.dropped, "connection")}
              </Text>
            )}
            {unknown > 0 && (
              <Text>
                {why.seen.carried + why.seen.dropped > 0 ? "Outcome unknown" : "It was seen; its outcome is unknown"}:{" "}
                {plural(unknown, "connection")}
              </Text>
            )}
            <Text color="soft" title={`${utc(why.seen.first)} to ${utc(why.seen.last)}`}>
              {atMinute(why.seen.first)} – {atMinute(why.seen.last)}
              {why.seen.observer && `, reported by ${why.seen.observer}`}
            </Text>
          </ChainLink>
        )}
      </Chain>
      <Steps why={why} title="Every rule considered" />
      <KeepProbe why={why} />
    </Box>
  );
}

/** The answer as a probe: it is asked again at every change. */
function KeepProbe({ why }: { why: Why }) {
  const keep = api.useMutation("post", "/api/v1/probes");
  const w = useWindow();
  const end = (e: Why["client"]) => (e.workload ? `workload ${JSON.stringify(e.workload)}` : e.addr);
  const run = async () => {
    try {
      await keep.mutateAsync({
        params: { query: w },
        body: { text: `${end(why.client)} -> ${end(why.server)} ${why.service} = ${why.verdict}`, reason: "" },
      });
      say(`Saved as a probe that expects ${why.verdict}`);
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Text mt="8px">
      <Link onClick={() => void run()}>Save as a probe that expects {why.verdict}</Link>
    </Text>
  );
}

/** The trace: each rule with the part that did not agree, and why not. */
function Steps({ why, title }: { why: Why; title: string }) {
  const [all, setAll] = useState(false);
  const [open, setOpen] = useState<number>();
  return (
    <>
      <Link mt="10px" color="soft" onClick={() => setAll(!all)} aria-expanded={all}>
        {title} {all ? "▾" : "▸"}
      </Link>
      {all && (
        <Box mt="4px">
          {why.steps.map((s) => (
            <Box key={s.rule.line} py="4px" borderBottomWidth="1px" borderColor="line2" data-step={s.rule.line}>
              <Text>
                <chakra.span color="soft">{s.rule.line}</chakra.span> {s.rule.sentence}
              </Text>
              {s.matches ? (
                <Text color={verdictColor(why.verdict)}>matches, and decides</Text>
              ) : s.because.length > 0 ? (
                <Link
                  color="soft"
                  aria-expanded={open === s.rule.line}
                  onClick={() => setOpen(open === s.rule.line ? undefined : s.rule.line)}
                >
                  {s.failed} {open === s.rule.line ? "▾" : "▸"}
                </Link>
              ) : (
                <Text color="soft">{s.failed}</Text>
              )}
              {open === s.rule.line &&
                s.because.map((b, i) => (
                  <Box key={i} pl="10px">
                    <Text>
                      <b>{b.group}</b>:{" "}
                      <chakra.span color={b.truth === "undecided" ? "open" : undefined}>{b.truth}</chakra.span>
                      {b.listed && `, listed after ${b.listed}`}
                    </Text>
                    <Reasons reasons={b.reasons} />
                  </Box>
                ))}
            </Box>
          ))}
        </Box>
      )}
    </>
  );
}

function Closest({ step }: { step: NonNullable<Why["closest"]> }) {
  const undecided = step.because.filter((b) => b.truth === "undecided");
  return (
    <Text color="soft">
      Closest: <i>{step.rule.sentence}</i>; {step.failed}
      {undecided.length > 0 && `: ${undecided.map((b) => b.group).join(", ")} undecided`}.
    </Text>
  );
}

function Belongs({ title, list, outside }: { title: string; list: Why["clientIs"]; outside: boolean }) {
  if (list.length === 0) {
    return (
      <ChainLink>
        {title} is {outside ? "outside, and " : ""}in no group that decides this.
      </ChainLink>
    );
  }
  return list.map((b) => (
    <ChainLink key={b.group}>
      {title} is in <b>{b.group}</b>
      {b.listed ? <Text color="soft">listed after {b.listed}</Text> : <Reasons reasons={b.reasons} />}
    </ChainLink>
  ));
}

/** A tag that is missing, with the values that others have: one press sets it. */
function TagHint({ hint }: { hint: Why["hints"][number] }) {
  const set = api.useMutation("post", "/api/v1/tags");
  const [preview, setPreview] = useState<{ value: string; c: Schemas["Consequences"] }>();
  const w = useWindow();
  const run = async (value: string, dryRun: boolean) => {
    try {
      const c = await set.mutateAsync({
        params: { query: { ...w, dryRun } },
        body: { workloads: [hint.workload], key: hint.key, value },
      });
      if (dryRun) return setPreview({ value, c });
      say(`Set ${hint.key} = ${value} on ${hint.name}`);
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <ChainLink open>
      <Text>
        <b>{hint.name}</b> has no <chakra.span fontFamily="mono">{hint.key}</chakra.span>, so{" "}
        <chakra.span color="open" fontWeight="500">
          {hint.group} is undecided
        </chakra.span>
        {hint.settles ? ". These values would let a rule decide:" : ". Other tags are missing too."}
      </Text>
      <Flex gap="5px" wrap="wrap" mt="4px">
        {hint.values.slice(0, 5).map((v) => (
          <Btn
            key={v}
            onClick={() => void run(v, true)}
            aria-pressed={preview?.value === v}
            borderColor={preview?.value === v ? "accent" : "line"}
          >
            {hint.key} = {v}
          </Btn>
        ))}
      </Flex>
      {preview && (
        <Box mt="6px">
          {preview.c.conversations.map((c) => (
            <Text key={c.before + c.after}>
              {plural(c.count, "conversation")}: {c.before} → {c.after}
              {c.rules.length > 0 && ` through line ${c.rules.join(", ")}`}
            </Text>
          ))}
          {preview.c.changed === 0 && <Text color="soft">No conversation changes verdict.</Text>}
          <Btn primary mt="4px" onClick={() => void run(preview.value, false)}>
            Set {hint.key} = {preview.value}
          </Btn>
        </Box>
      )}
    </ChainLink>
  );
}
