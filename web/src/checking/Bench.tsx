// What if: lines "client -> server service" get their verdicts with their whys, for
// all members of groups; kept as probes they are asked again at every change.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { CodeEditor } from "../editor/CodeEditor";
import { useVocabulary } from "../editor/useVocabulary";
import { useAddress, useCarried, useWhy, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, Link, Switches } from "../marks/Controls";
import { Mark, type Verdict, verdictColor } from "../marks/Marks";
import { atMinute, n, plural, worded } from "../marks/words";

type Answer = Schemas["AnswerOut"];
type Probe = Schemas["ProbeOut"];

export function Bench() {
  const { search, change } = useAddress();
  const w = useWindow();
  const [text, setText] = useState(search.get("ask") ?? "");
  const [reason, setReason] = useState("");
  const words = useVocabulary();
  const ask = api.useMutation("post", "/api/v1/whatif");
  const keep = api.useMutation("post", "/api/v1/probes");
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const probes = api.useQuery("get", "/api/v1/probes", { params: { query: w } });
  const { mutate } = ask;
  const state = summary.data; // another one when the draft or the estate has changed
  // What was answered last stays until the next answer is there.
  const [found, setFound] = useState<Schemas["WhatIf"]>();
  useEffect(() => {
    const t = setTimeout(() => {
      change({ ask: text.length < 3000 ? text : null }, { replace: true });
      if (text.trim()) mutate({ body: { text } }, { onSuccess: setFound });
    }, 200);
    return () => clearTimeout(t);
  }, [text, state, mutate, change]);
  const answers = text.trim() ? (found?.answers ?? []) : [];
  const store = async (lines: string) => {
    try {
      await keep.mutateAsync({ params: { query: w }, body: { text: lines, reason } });
      say(`Saved: ${plural(lines.split("\n").filter((l) => l.trim()).length, "probe")}, checked at every change`);
      setReason("");
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Flex direction="column" minH="0" flex="1" mt="8px">
      <Flex gap="14px" flexShrink={0}>
        <Box flex="1" minW="0">
          <CodeEditor
            value={text}
            onChange={setText}
            errors={found?.errors ?? []}
            label="questions, one a line"
            words={words}
            height="112px"
            numbered
          />
        </Box>
        <Box w="330px" flexShrink={0} color="soft" fontSize="12px">
          <Text>
            One a line: <chakra.span fontFamily="mono">client -&gt; server service</chakra.span>. A side is a group, a
            workload, an address, a CIDR, <chakra.span fontFamily="mono">outside</chakra.span>, or{" "}
            <chakra.span fontFamily="mono">(an expression)</chakra.span>; groups are answered for all their members.
          </Text>
          <Flex mt="6px" gap="6px">
            <Entry
              flex="1"
              aria-label="why these are expected"
              placeholder="why? (saved with the probes)"
              value={reason}
              set={setReason}
            />
            <Btn
              primary
              disabled={answers.length === 0 || (found?.errors.length ?? 0) > 0}
              loading={keep.isPending}
              onClick={() => void store(text)}
              title="A line without “= verdict” expects today’s verdict"
            >
              {answers.length > 1 ? `Save ${answers.length} as probes` : "Save as a probe"}
            </Btn>
          </Flex>
        </Box>
      </Flex>
      {text.trim() &&
        found?.errors.map((e) => (
          <Text key={`${e.line} ${e.message}`} color="reject" role="alert" fontSize="12.5px">
            line {e.line}: {e.message}
          </Text>
        ))}
      <Box overflowY="auto" flex="1" mt="6px" role="region" aria-label="answers and probes">
        {answers.map((a) => (
          <AnswerRow key={`${a.line} ${a.question}`} a={a} />
        ))}
        <Probes all={probes.data ?? []} asking={answers.length > 0} />
      </Box>
    </Flex>
  );
}

function AnswerMark({ verdict }: { verdict: Answer["verdict"] }) {
  if (verdict === "several" || verdict === "nothing") return <Mark kind="undecided" />;
  return <Mark kind={verdict} />;
}

function AnswerRow({ a, extra }: { a: Answer; extra?: React.ReactNode }) {
  const [open, setOpen] = useState(false);
  const differs = !!a.want && !a.asExpected;
  return (
    <Box
      borderBottomWidth="1px"
      borderColor="line2"
      data-answer={a.verdict}
      data-expected={a.want ? String(a.asExpected) : undefined}
    >
      <Flex gap="8px" align="baseline" py="4px" bg={differs ? "rejectTint" : undefined} px="4px">
        <chakra.button
          type="button"
          aria-expanded={open}
          aria-label={`${open ? "fold" : "unfold"} ${a.question}`}
          onClick={() => setOpen(!open)}
          color="soft"
          w="14px"
          cursor="pointer"
        >
          {open ? "▾" : "▸"}
        </chakra.button>
        <AnswerMark verdict={a.verdict} />
        <Text
          fontFamily="mono"
          fontSize="12.5px"
          w="44%"
          flexShrink={0}
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
          title={a.question}
        >
          {a.question}
        </Text>
        <Text
          flex="1"
          minW="0"
          color={a.verdict in { permit: 1, reject: 1, uncovered: 1 } ? verdictColor(a.verdict as Verdict) : undefined}
        >
          {worded(a.words)}
          {differs && (
            <chakra.span color="reject" fontWeight="600">
              {`; ${a.want} was expected`}
            </chakra.span>
          )}
        </Text>
        {extra}
      </Flex>
      {open && <Parts a={a} />}
    </Box>
  );
}

/** By which rule, for whom; with the way to the why of an example. */
function Parts({ a }: { a: Answer }) {
  const { show } = useWhy();
  const carried = useCarried();
  const navigate = useNavigate();
  const names = (list: Answer["undecided"], count: number) => (
    <>
      {list.map((e, i) => (
        <chakra.span key={e.name}>
          {i > 0 && ", "}
          {e.workload ? <Link onClick={() => show({ kind: "workload", id: e.workload! })}>{e.name}</Link> : e.name}
          {e.lacks.length > 0 && (
            <chakra.span color="open" fontWeight="500">
              {` ${e.lacks.join(", ")} missing`}
            </chakra.span>
          )}
        </chakra.span>
      ))}
      {count > list.length && ` and ${n(count - list.length)} more`}
    </>
  );
  return (
    <Box pl="40px" pb="6px" fontSize="12.5px">
      {a.parts.map((p) => (
        <Box key={p.rule?.line ?? 0} py="3px" data-part={p.verdict}>
          <Flex gap="8px" align="baseline">
            <Mark kind={p.verdict} size={10} />
            <Text flex="1" minW="0">
              <b>{plural(p.pairs, "pair")}</b> on {p.service}:{" "}
              {p.rule ? (
                <Link onClick={() => void navigate(`/policy${carried}${carried ? "&" : "?"}line=${p.rule!.line}`)}>
                  line {p.rule.line}, {p.rule.sentence}
                </Link>
              ) : (
                "no rule matches"
              )}
            </Text>
            <Btn
              flexShrink={0}
              onClick={() => show({ kind: "flow", client: p.client.addr, server: p.server.addr, service: p.point })}
            >
              Why, by an example
            </Btn>
          </Flex>
          <Text color="soft" pl="18px">
            {names(p.clients, p.clientCount)} → {names(p.servers, p.serverCount)}
          </Text>
        </Box>
      ))}
      {a.maybeCount > 0 && (
        <Text py="3px">
          <Mark kind="undecided" size={10} /> Membership undecided: {names(a.undecided, a.maybeCount)}
        </Text>
      )}
    </Box>
  );
}

function Probes({ all, asking }: { all: Probe[]; asking: boolean }) {
  const { search, change } = useAddress();
  const only = search.get("probes") === "off";
  const w = useWindow();
  const drop = api.useMutation("post", "/api/v1/probes/drop");
  const keep = api.useMutation("post", "/api/v1/probes");
  const remove = async (p: Probe) => {
    try {
      await drop.mutateAsync({ params: { query: w }, body: { questions: [p.question] } });
      await caughtUp();
      say(`Dropped: ${p.question}`, "info", {
        label: "Undo",
        onClick: () =>
          void keep
            .mutateAsync({ params: { query: w }, body: { text: `${p.question} = ${p.want}`, reason: p.reason } })
            .then(() => caughtUp()),
      });
    } catch (e) {
      say(problem(e), "error");
    }
  };
  const off = all.filter((p) => !p.answer?.asExpected);
  const shown = only ? off : [...off, ...all.filter((p) => p.answer?.asExpected)];
  return (
    <Box mt={asking ? "16px" : "0"}>
      <Flex gap="12px" align="center" pb="4px" borderBottomWidth="1px" borderColor="line">
        <Text fontWeight="600">Probes</Text>
        <Text color="soft" fontSize="12px">
          {all.length === 0
            ? "None yet. Save a question with the verdict that you expect; every change checks it again."
            : `${n(all.length - off.length)} of ${n(all.length)} as expected`}
        </Text>
        {off.length > 0 && (
          <Switches
            label="which probes"
            on={only ? ["off"] : []}
            toggle={() => change({ probes: only ? null : "off" })}
            options={[{ value: "off", shown: "only those that differ" }]}
          />
        )}
        {all.length > 0 && (
          <Flex ml="auto" gap="12px" color="soft" fontSize="12px">
            <chakra.a href="/api/v1/probes.txt" download textDecoration="underline" textUnderlineOffset="3px">
              As lines
            </chakra.a>
            <chakra.a href="/api/v1/probes.csv" download textDecoration="underline" textUnderlineOffset="3px">
              Results as CSV
            </chakra.a>
          </Flex>
        )}
      </Flex>
      {shown.map((p) => (
        <Box key={p.question} data-probe={p.answer?.asExpected ? "expected" : "off"}>
          {p.answer ? (
            <AnswerRow
              a={p.answer}
              extra={
                <>
                  <Text
                    color="soft"
                    fontSize="12px"
                    flexShrink={0}
                    maxW="220px"
                    truncate
                    title={`${p.reason} (${p.author}, ${atMinute(p.at)})`}
                  >
                    {p.reason}
                    {p.rightly > 0 && ` · ${n(p.rightly)} seen`}
                  </Text>
                  <Btn flexShrink={0} onClick={() => void remove(p)}>
                    Drop
                  </Btn>
                </>
              }
            />
          ) : (
            <Flex
              gap="8px"
              py="4px"
              px="4px"
              align="baseline"
              borderBottomWidth="1px"
              borderColor="line2"
              bg="rejectTint"
            >
              <Text fontFamily="mono" fontSize="12.5px" flex="1" minW="0" truncate>
                {p.question}
              </Text>
              <Text color="reject">no longer valid: {p.problem}</Text>
              <Btn onClick={() => void remove(p)}>Drop</Btn>
            </Flex>
          )}
        </Box>
      ))}
    </Box>
  );
}
