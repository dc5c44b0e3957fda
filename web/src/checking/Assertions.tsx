// The assertions: what must hold for all traffic, seen or not; each with its
// result, what speaks against it, and the mend.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { Link as RouterLink } from "react-router";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { CodeEditor } from "../editor/CodeEditor";
import { useVocabulary } from "../editor/useVocabulary";
import { useWhy, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Empty, Link, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { useEdit } from "../drafting/useEdit";
import { Templates } from "./Templates";
import { noteText } from "../editor/quote";

type Assertion = Schemas["AssertOut"];
const look = { holds: ["permit", "permit"], open: ["uncovered", "open"], broken: ["reject", "reject"] } as const;

export function Assertions() {
  const { data } = api.useQuery("get", "/api/v1/assertions");
  const w = useWindow();
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const [writing, setWriting] = useState<{ line?: number; start: string }>();
  if (!data || !summary.data) return null;
  const revision = summary.data.revision;
  return (
    <Flex direction="column" minH="0" flex="1" mt="8px">
      <Flex pb="5px" borderBottomWidth="1px" borderColor="line" gap="12px" align="center">
        <Text color="soft" fontSize="12px">
          Proved for all workloads and all outside addresses, seen or not. An <b>always</b> also guards: a draft that
          breaks one says so on every page.
        </Text>
        <chakra.a
          ml="auto"
          href="/api/v1/assertions.csv"
          download
          color="soft"
          fontSize="12px"
          textDecoration="underline"
          textUnderlineOffset="3px"
        >
          Export CSV
        </chakra.a>
        <Btn primary onClick={() => setWriting({ start: "" })}>
          New assertion
        </Btn>
      </Flex>
      <Box overflowY="auto" flex="1" role="region" aria-label="assertions">
        {writing && writing.line === undefined && (
          <Writing revision={revision} start={writing.start} onDone={() => setWriting(undefined)} />
        )}
        {data.length === 0 && !writing && (
          <Empty title="No assertions yet">
            State what must hold for all traffic: for example, that environments stay apart, or that administrators
            always reach their machines. Each edit proves it again.
          </Empty>
        )}
        {data.map((a) =>
          writing?.line === a.line ? (
            <Writing
              key={a.line}
              revision={revision}
              line={a.line}
              start={writing.start}
              onDone={() => setWriting(undefined)}
            />
          ) : (
            <One
              key={a.line}
              a={a}
              revision={revision}
              change={() => setWriting({ line: a.line, start: a.sentence + noteText(a.note) })}
            />
          ),
        )}
      </Box>
    </Flex>
  );
}

function One({ a, revision, change }: { a: Assertion; revision: number; change: () => void }) {
  const { tryEdit, busy } = useEdit();
  const [mending, setMending] = useState(false);
  return (
    <Box py="5px" borderBottomWidth="1px" borderColor="line2" data-assertion={a.result}>
      <Flex gap="8px" align="baseline">
        <Mark kind={look[a.result][0]} />
        <Text color={look[a.result][1]} fontWeight="600" w="50px" flexShrink={0}>
          {a.result}
        </Text>
        <Text flex="1" minW="0">
          {a.kind} <b>{a.left.join(", ")}</b> → <b>{a.right.join(", ")}</b> on {a.on}
          {a.clauses} <chakra.span color="soft">{a.note}</chakra.span>
        </Text>
        {a.result !== "holds" && (
          <Btn flexShrink={0} onClick={() => setMending(true)} data-mend>
            Fix…
          </Btn>
        )}
        <Btn flexShrink={0} asChild>
          <RouterLink to={`/evidence?make=${encodeURIComponent(a.sentence)}`}>Evidence…</RouterLink>
        </Btn>
        <Btn flexShrink={0} onClick={change}>
          Edit
        </Btn>
        <Btn
          flexShrink={0}
          disabled={busy}
          onClick={() => void tryEdit({ op: "remove", line: a.line, revision, was: a.sentence + noteText(a.note) })}
        >
          Remove
        </Btn>
      </Flex>
      <Counterexample a={a} />
      {mending && <Mending a={a} close={() => setMending(false)} />}
    </Box>
  );
}

/** What speaks against it; it opens the why panel. */
function Counterexample({ a }: { a: Assertion }) {
  const { show } = useWhy();
  if (!a.client || !a.server) return null;
  return (
    <Text pl="77px">
      <Link
        data-counterexample
        onClick={() => show({ kind: "flow", client: a.client!.addr, server: a.server!.addr, service: a.service! })}
      >
        {`${a.client.name} → ${a.server.name} on ${a.service}`}
      </Link>{" "}
      <chakra.span color="soft">
        {a.rule ? `is decided by line ${a.rule.line}: ${a.rule.sentence}` : "is decided by no rule"}
      </chakra.span>
    </Text>
  );
}

function Mending({ a, close }: { a: Assertion; close: () => void }) {
  const w = useWindow();
  const { data: m, error } = api.useQuery(
    "get",
    "/api/v1/assertions/fix",
    { params: { query: { ...w, line: a.line } } },
    { staleTime: 0 },
  );
  const take = api.useMutation("post", "/api/v1/settle");
  const run = async () => {
    try {
      await take.mutateAsync({
        params: { query: w },
        body: { revision: m!.revision, lines: m!.lines, before: m!.before },
      });
      say(`${m!.words}: ${a.sentence.replace("assert ", "")}`);
      close();
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Modal
      title={`Mend: ${a.sentence.replace("assert ", "")}`}
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn onClick={close}>Cancel</Btn>
          <Btn primary disabled={!m?.found} loading={take.isPending} onClick={() => void run()}>
            Apply
          </Btn>
        </>
      }
    >
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {!m && !error && <Text color="soft">Searching for rules that make it hold…</Text>}
      {m && !m.found && (
        <Text>No single rule makes it hold. Look at the counterexample, and change the rules that decide it.</Text>
      )}
      {m?.found && (
        <>
          <Text>
            {m.words}, {m.before ? `before line ${m.before}` : "last in the layer allowances"}. Then it holds.
          </Text>
          <Box my="8px" fontFamily="mono" fontSize="12.5px" bg="tint" px="8px" py="5px">
            {m.lines.map((l) => (
              <Text key={l}>{l}</Text>
            ))}
          </Box>
          {m.consequences && <ConsequencesList c={m.consequences} />}
        </>
      )}
    </Modal>
  );
}

/** An assertion in the making, with what it would come to. */
function Writing({
  revision: now,
  line,
  start,
  onDone,
}: {
  revision: number;
  line?: number;
  start: string;
  onDone: () => void;
}) {
  const [text, setText] = useState(start);
  const [tried, setTried] = useState<Schemas["Tried"]>(); // what was found last
  const [asked, setAsked] = useState("");
  const [wrong, setWrong] = useState<string>();
  const [revision] = useState(now); // a change by somebody else meanwhile is noticed
  const words = useVocabulary();
  const trying = api.useMutation("post", "/api/v1/assertions/try");
  const { edit, busy } = useEdit();
  const { mutate } = trying;
  useEffect(() => {
    if (!text.trim()) return;
    const t = setTimeout(() => {
      mutate({ body: { text } }, { onSuccess: (found) => (setTried(found), setAsked(text)) });
    }, 200);
    return () => clearTimeout(t);
  }, [text, mutate]);
  const store = async () => {
    setWrong(undefined);
    try {
      await edit({
        op: line === undefined ? "add" : "change",
        line,
        text,
        revision,
        was: line === undefined ? undefined : start,
      });
      onDone();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Box
      bg="tint"
      px="12px"
      py="8px"
      borderBottomWidth="1px"
      borderColor="line2"
      onKeyDown={(e) => e.key === "Escape" && !e.defaultPrevented && onDone()}
      data-writing
    >
      {line === undefined && <Templates choose={setText} />}
      <CodeEditor
        value={text}
        onChange={setText}
        errors={tried?.errors ?? []}
        label="the assertion"
        words={["assert", "never", "always", "only", "across", "same", "within", ...words]}
        onSave={() => void store()}
        autoFocus
      />
      {!text && (
        <Text color="soft" mt="3px">
          For example: assert only booking-logic-live -&gt; booking-store-live on postgres &quot;why&quot;
        </Text>
      )}
      {tried?.errors.map((e) => (
        <Text key={e.message} color="reject" role="alert" mt="3px">
          {e.message}
        </Text>
      ))}
      {tried?.results.map((a) => (
        <Box key={a.sentence} mt="5px" data-tried={a.result}>
          <Text>
            <Mark kind={look[a.result][0]} />{" "}
            <chakra.span color={look[a.result][1]} fontWeight="600">
              {a.result === "holds"
                ? "It holds."
                : a.result === "open"
                  ? "It is open: no rule decides some of this traffic."
                  : "It is broken."}
            </chakra.span>
          </Text>
          <Counterexample a={a} />
        </Box>
      ))}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      <Flex gap="8px" mt="8px" align="center">
        <Btn
          primary
          loading={busy}
          disabled={!text.trim() || asked !== text || !tried || tried.errors.length > 0 || text === start}
          onClick={() => void store()}
        >
          Save to the draft
        </Btn>
        <Btn onClick={onDone}>Cancel</Btn>
        <Text color="soft">
          Ctrl Enter saves{tried && tried.results.length > 1 ? ` ${plural(tried.results.length, "assertion")}` : ""}
        </Text>
      </Flex>
    </Box>
  );
}
