// Settle from where you stand: a row of the ledger is permitted or rejected with
// a rule at one of three widths, each with what it would do; or it is recorded
// why it is right that it is rejected, so that it stops asking.
import { Box, chakra, Text } from "@chakra-ui/react";
import { createContext, type ReactNode, useContext, useEffect, useMemo, useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { CodeEditor } from "../editor/CodeEditor";
import { useVocabulary } from "../editor/useVocabulary";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { Selected, SettleMany, Together } from "./SettleMany";
import type { How, Target } from "./settling";
import type { LedgerQuery } from "./shared";

type Settling = {
  open: (how: How, t: Target) => void;
  selected: Target[];
  toggle: (t: Target) => void;
};
const Context = createContext<Settling | undefined>(undefined);

const keyOf = (t: Target) => [t.near, t.far, t.service, t.client, t.server, t.first].join("~");

/** Rows below can be settled. */
export function SettleHere({ query, children }: { query: LedgerQuery; children: ReactNode }) {
  const [asked, setAsked] = useState<{ how: How; target: Target }>();
  const [selected, setSelected] = useState<Target[]>([]);
  const [many, setMany] = useState<How>();
  const settling = useMemo(
    () => ({
      open: (how: How, target: Target) => (selected.length > 0 ? setMany(how) : setAsked({ how, target })),
      selected,
      toggle: (t: Target) =>
        setSelected((all) =>
          all.some((x) => keyOf(x) === keyOf(t)) ? all.filter((x) => keyOf(x) !== keyOf(t)) : [...all, t],
        ),
    }),
    [selected],
  );
  return (
    <Context.Provider value={settling}>
      {children}
      {selected.length === 0 && query.aside && (
        <Together query={query} open={(how, target) => setAsked({ how, target })} select={setSelected} />
      )}
      {selected.length > 0 && <Selected rows={selected} open={setMany} clear={() => setSelected([])} />}
      {many && (
        <SettleMany
          as={many}
          rows={selected}
          query={query}
          close={(done) => {
            setMany(undefined);
            if (done) setSelected([]);
          }}
        />
      )}
      {asked &&
        (asked.how === "rightly" ? (
          <Rightly target={asked.target} query={query} close={() => setAsked(undefined)} />
        ) : (
          <Rule as={asked.how} target={asked.target} query={query} close={() => setAsked(undefined)} />
        ))}
    </Context.Provider>
  );
}

/** The ways in which a row can be settled, with their keys; none where rows cannot be. */
export function useSettling(target: Target): { how: How; key: string; words: string; run: () => void }[] {
  const settling = useContext(Context);
  if (!settling) return [];
  const { permit, reject, uncovered } = target.counts;
  const ways: { how: How; key: string; words: string }[] = [];
  if (reject + uncovered > 0) ways.push({ how: "permit", key: "p", words: "Permit…" });
  if (uncovered > 0 || (permit > 0 && reject === 0)) ways.push({ how: "reject", key: "x", words: "Reject…" });
  if (reject > 0) ways.push({ how: "rightly", key: "r", words: "Rightly so…" });
  return ways.map((way) => ({ ...way, run: () => settling.open(way.how, target) }));
}

/** Whether a row is selected, to be settled with others; undefined where rows cannot be. */
export function useSelecting(target: Target): { on: boolean; toggle: () => void } | undefined {
  const settling = useContext(Context);
  if (!settling) return undefined;
  return {
    on: settling.selected.some((x) => keyOf(x) === keyOf(target)),
    toggle: () => settling.toggle(target),
  };
}

/** The part of a question that says what is pointed at. */
const below = (t: Target) => ({ near: t.near, far: t.far, service: t.service });

const widths = { exact: "Exactly these", groups: "Their groups", wider: "Wider" } as const;

function Rule({
  as,
  target,
  query,
  close,
}: {
  as: "permit" | "reject";
  target: Target;
  query: LedgerQuery;
  close: () => void;
}) {
  const w = useWindow();
  const { client, server, first } = target;
  const found = api.useQuery(
    "get",
    "/api/v1/settle",
    { params: { query: { ...w, ...query, ...below(target), client, server, first, as } } },
    { staleTime: 0 },
  );
  const [at, setAt] = useState<number>();
  const [text, setText] = useState<string>();
  const [reason, setReason] = useState("");
  const [wrong, setWrong] = useState<string>();
  const take = api.useMutation("post", "/api/v1/settle");
  const look = api.useMutation("post", "/api/v1/settle");
  const [seen, setSeen] = useState<Schemas["EditOut"]>(); // what was said of the text last
  const words = useVocabulary();
  const options = found.data?.options ?? [];
  // Of a row that is permitted in part, none is chosen beforehand that takes that away.
  const takes = (o: (typeof options)[number]) => o.consequences.conversations.some((c) => c.before === "permit");
  const usual = [options[1], options[0], options[2]].find(
    (o) => o && !(target.counts.permit > 0 && target.counts.uncovered > 0 && takes(o)),
  );
  const chosen = at === undefined ? usual : options[at];
  const lines = text ?? chosen?.lines.join("\n") ?? "";
  const revision = found.data?.revision ?? 0;
  const { mutate } = look;
  useEffect(() => {
    if (text === undefined || !chosen) return;
    const t = setTimeout(
      () =>
        mutate(
          {
            params: { query: { ...w, dryRun: true } },
            body: { revision, lines: text.split("\n").filter((l) => l.trim()), before: chosen.before },
          },
          { onSuccess: setSeen },
        ),
      250,
    );
    return () => clearTimeout(t);
  }, [text, chosen, revision, w, mutate]);
  const looked = text === undefined ? undefined : seen;
  const consequences = text === undefined ? chosen?.consequences : looked?.consequences;
  const run = async () => {
    setWrong(undefined);
    const body = lines.split("\n").filter((l) => l.trim());
    const note = reason.trim();
    // The reason is the rule's note, unless the rule has been given one by hand.
    const last = body.length - 1;
    if (note && body[last] && !body[last].endsWith('"')) body[last] += ` ${JSON.stringify(note)}`;
    try {
      const out = await take.mutateAsync({
        params: { query: w },
        body: { revision, lines: body, before: chosen!.before },
      });
      say(out.words);
      close();
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Modal
      title={`${as === "permit" ? "Permit" : "Reject"} ${target.words}`}
      open
      onClose={close}
      size="xl"
      footer={
        <>
          <Btn onClick={close}>Cancel</Btn>
          <Btn
            primary
            loading={take.isPending}
            disabled={!chosen || (looked?.errors.length ?? 0) > 0}
            onClick={() => void run()}
          >
            Add to the draft
          </Btn>
        </>
      }
    >
      {found.error && <ProblemNote>{problem(found.error)}</ProblemNote>}
      {found.isLoading && <Text color="soft">Finding rules and their consequences…</Text>}
      {found.data && options.length === 0 && (
        <Text>{as === "permit" ? "All of it is already permitted." : "All of it is already rejected."}</Text>
      )}
      {options.length > 0 && !chosen && (
        <ProblemNote>
          Part of it is permitted now, and each of these rules would reject that part. Choose one if you mean that.
        </ProblemNote>
      )}
      {options.map((o, i) => (
        <chakra.button
          key={o.width}
          type="button"
          data-width={o.width}
          aria-pressed={o === chosen}
          onClick={() => {
            setAt(i);
            setText(undefined);
          }}
          display="flex"
          gap="12px"
          w="100%"
          textAlign="left"
          cursor="pointer"
          px="10px"
          py="6px"
          borderLeftWidth="3px"
          borderColor={o === chosen ? "accent" : "line2"}
          bg={o === chosen ? "tint" : undefined}
          mb="3px"
        >
          <Text w="96px" flexShrink={0} fontWeight="600">
            {widths[o.width]}
          </Text>
          <Box flex="1" minW="0">
            <Text>{o.words}</Text>
            <Effect c={o.consequences} asked={found.data!.conversations} as={as} />
          </Box>
        </chakra.button>
      ))}
      {chosen && (
        <>
          {chosen.instead && (
            <Text mt="8px">
              It is an exception to line {chosen.instead.line}, <i>{chosen.instead.sentence}</i>
              {chosen.instead.note && ` “${chosen.instead.note}”`}, and goes before it, in {chosen.instead.layer}.
            </Text>
          )}
          <Box mt="8px">
            <CodeEditor
              value={lines}
              onChange={(t) => t !== lines && setText(t)}
              errors={looked?.errors ?? []}
              label="the rule"
              words={words}
              onSave={() => void run()}
            />
            {looked?.errors.map((e) => (
              <Text key={e.message} color="reject" role="alert">
                {e.message}
              </Text>
            ))}
          </Box>
          <Entry
            mt="8px"
            w="100%"
            autoFocus
            aria-label="why"
            placeholder="Why? The reason becomes the rule’s note and appears in the report."
            value={reason}
            set={setReason}
          />
          {consequences && (
            <Box mt="10px">
              <ConsequencesList c={consequences} />
            </Box>
          )}
        </>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}

/** What an option does beside what was asked for. */
function Effect({ c, asked, as }: { c: Schemas["Consequences"]; asked: number; as: "permit" | "reject" }) {
  const gained = c.conversations.filter((v) => v.after === as).reduce((s, v) => s + v.count, 0);
  const other = c.changed - gained;
  const broken = c.asserts.filter((a) => a.after === "broken");
  return (
    <Text color="soft">
      <Mark kind={as} size={10} /> {plural(gained, "conversation")}
      {gained > asked ? `, ${gained - asked} more than you selected` : ", exactly your selection"}
      {other > 0 && `; ${plural(other, "other")} change verdict`}
      {c.opens.unseen > 0 && `; opens ${plural(c.opens.unseen, "pair")} of machines never seen`}
      {broken.length > 0 && (
        <chakra.span color="reject" fontWeight="600">
          {`; breaks ${broken.map((a) => a.sentence.replace("assert ", "")).join(", ")}`}
        </chakra.span>
      )}
    </Text>
  );
}

function Rightly({ target, query, close }: { target: Target; query: LedgerQuery; close: () => void }) {
  const w = useWindow();
  const { client, server, first } = target;
  const found = api.useQuery(
    "get",
    "/api/v1/settle",
    {
      params: { query: { ...w, ...query, verdict: ["reject"], ...below(target), client, server, first, as: "reject" } },
    },
    { staleTime: 0 },
  );
  const keep = api.useMutation("post", "/api/v1/probes");
  const [reason, setReason] = useState("");
  const [text, setText] = useState<string>();
  const [wrong, setWrong] = useState<string>();
  const question = text ?? found.data?.probe ?? "";
  const run = async () => {
    setWrong(undefined);
    try {
      await keep.mutateAsync({ params: { query: w }, body: { text: `${question} = reject`, reason } });
      say("Saved as a probe: it is no longer an open question");
      close();
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Modal
      title={`Rightly rejected: ${target.words}`}
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn onClick={close}>Cancel</Btn>
          <Btn primary loading={keep.isPending} disabled={!question || !reason.trim()} onClick={() => void run()}>
            Save the reason
          </Btn>
        </>
      }
    >
      <Text mb="8px">
        The reason is saved as a probe that expects <Mark kind="reject" size={10} /> reject. This traffic is then no
        longer an open question. If a later draft permits it, the probe reports that.
      </Text>
      <Entry
        w="100%"
        autoFocus
        aria-label="why it is right"
        placeholder="Why is it right? For example: a scanner, removed by the depot on Friday"
        value={reason}
        set={setReason}
        onKeyDown={(e) => e.key === "Enter" && reason.trim() && void run()}
      />
      <Text mt="10px" color="soft">
        Applies to:
      </Text>
      <CodeEditor value={question} onChange={(t) => t !== question && setText(t)} errors={[]} label="the question" />
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
