// Write an expression with errors in place; see in, undecided and out live; see
// what saving does; save it into the draft.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, problem, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { CodeEditor } from "../editor/CodeEditor";
import { noteText, quote } from "../editor/quote";
import { useVocabulary } from "../editor/useVocabulary";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { Ledger } from "../ledger/Ledger";
import { Btn, Empty, Entry, Link, ProblemNote, Sentence, Switches } from "../marks/Controls";
import { Spark } from "../marks/Marks";
import { atMinute, n, plural } from "../marks/words";
import { Members } from "./Members";
import { Findings } from "../drafting/Findings";
import { useEdit } from "../drafting/useEdit";
import { GroupHistory, GroupTools } from "./GroupTools";

type Group = Schemas["GroupOut"];
type Preview = Schemas["GroupPreview"];
const parts = ["members", "history", "reached", "reaches"] as const;

export function GroupEditor({ group, onSaved }: { group?: Group; onSaved: (name: string) => void }) {
  const w = useWindow();
  const { search, change } = useAddress();
  const part = parts.find((x) => x === search.get("part")) ?? "members";
  const [text, setText] = useState(group?.body ?? "");
  // What the text was begun from: a change by somebody else in between is then
  // noticed, not overwritten.
  const [begun, setBegun] = useState({ body: group?.body ?? "", line: group?.line, revision: 0 });
  const [name, setName] = useState(group?.name ?? "");
  const [wrong, setWrong] = useState<string>();
  const words = useVocabulary();
  const policy = api.useQuery("get", "/api/v1/policy", { params: { query: w } });
  const preview = api.useMutation("post", "/api/v1/groups/preview");
  const saving = useEdit();
  const { mutate: look } = preview;
  const revision = policy.data?.revision ?? 0;
  const changed = text.trim() !== begun.body && text.trim() !== group?.body; // what was saved a moment ago is no change
  const theirs = group && changed && group.body !== begun.body ? group.body : undefined;
  const take = (body: string) => {
    setText(body);
    setBegun({ body: group?.body ?? "", line: group?.line, revision });
  };
  // Somebody else, or undo, changed the group: that is taken over unless there are
  // edits here, which are never lost.
  if (!changed && (begun.revision !== revision || begun.line !== group?.line || begun.body !== (group?.body ?? "")))
    take(group?.body ?? "");
  useEffect(() => {
    if (!text.trim()) return;
    const t = setTimeout(() => look({ params: { query: w }, body: { name: group?.name ?? "", text } }), 150);
    return () => clearTimeout(t);
  }, [text, group?.name, group?.body, w, look, policy.data?.revision]);
  const p = preview.data;
  const store = async () => {
    setWrong(undefined);
    const statement = `group ${quote(group?.name ?? name.trim())} = ${text.replaceAll("\n", " ")}${noteText(group?.note)}`;
    try {
      await saving.edit(
        group
          ? { revision: begun.revision, op: "change", line: begun.line, was: begun.body, text: statement }
          : { revision, op: "add", text: statement },
      );
      if (!group) onSaved(name.trim());
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Box overflowY="auto" px="20px" py="12px" minW="0">
      <Flex gap="12px" align="flex-start">
        <Box flex="1">
          <Sentence>{title(group, p, changed)}</Sentence>
        </Box>
        {group && policy.data && !changed && (
          <GroupTools key={group.name} name={group.name} revision={policy.data.revision} onRenamed={onSaved} />
        )}
      </Flex>
      {!group && (
        <Flex align="center" gap="8px" mt="8px">
          <Text>Name</Text>
          <Entry w="260px" aria-label="name of the group" value={name} set={setName} placeholder="booking-logic-live" />
        </Flex>
      )}
      <Box mt="8px">
        <CodeEditor
          value={text}
          onChange={setText}
          errors={p?.errors ?? []}
          label="expression of the group"
          words={words}
          onSave={() => void store()}
          autoFocus={!group}
        />
      </Box>
      {text.trim() &&
        p?.errors.map((e) => (
          <Text key={e.column + e.message} color="reject" role="alert" mt="4px">
            column {e.column}: {e.message}
          </Text>
        ))}
      {p?.nameless && (
        <Text mt="4px" data-nameless={p.nameless.count}>
          <chakra.code fontFamily="mono">name</chakra.code> is the field <i>name</i>.{" "}
          {plural(p.nameless.count, "workload has", "workloads have")} none and {p.nameless.count === 1 ? "is" : "are"}{" "}
          listed by id, so the test leaves {p.nameless.count === 1 ? "it" : "them"} undecided.{" "}
          <Link onClick={() => setText(p.nameless!.withId)}>
            Test <chakra.code fontFamily="mono">id</chakra.code> instead
          </Link>
        </Text>
      )}
      {group && <UsedBy group={group} shares={p?.shares ?? []} />}
      {group && <Seen name={group.name} />}
      {group && policy.data && (
        <Findings
          revision={policy.data.revision}
          line={group.line}
          findings={group.findings}
          about={group.name}
          indent="0"
        />
      )}
      {group && !changed && (
        <Flex mt="10px">
          <Switches
            label="part"
            on={[part]}
            toggle={(x) => change({ part: x === "members" ? null : x })}
            options={[
              { value: "members", shown: "Members now" },
              { value: "history", shown: "Over the window" },
              { value: "reached", shown: "Who reaches it" },
              { value: "reaches", shown: "What it reaches" },
            ]}
          />
        </Flex>
      )}
      {p && p.errors.length === 0 && text.trim() && (part === "members" || changed) && (
        <Members p={p} name={changed ? undefined : group?.name} />
      )}
      {group && !changed && part === "history" && <GroupHistory name={group.name} />}
      {group && !changed && (part === "reached" || part === "reaches") && (
        <Flex direction="column" h="430px" mt="6px">
          <Ledger
            query={{ group: group.name, turn: part }}
            empty={
              <Empty title="Nothing was seen in the window">
                {part === "reached" ? "Nothing reached its members." : "Its members reached nothing."}
              </Empty>
            }
          />
        </Flex>
      )}
      {changed && p?.consequences && p.errors.length === 0 && (
        <Box borderTopWidth="1px" borderColor="ink" mt="14px" pt="8px">
          <Text fontFamily="heading" fontSize="16px" mb="4px">
            What saving does
          </Text>
          <ConsequencesList c={p.consequences} />
        </Box>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {theirs !== undefined && (
        <ProblemNote>
          Somebody has changed this group meanwhile. It is now: <chakra.code fontFamily="mono">{theirs}</chakra.code>{" "}
          <Btn onClick={() => take(theirs)}>Use theirs</Btn>{" "}
          <Btn onClick={() => setBegun({ body: theirs, line: group?.line, revision })}>Keep mine</Btn>
        </ProblemNote>
      )}
      {changed && (
        <Flex gap="8px" mt="12px" align="center">
          <Btn
            primary
            loading={saving.busy}
            disabled={!p || p.errors.length > 0 || theirs !== undefined || !text.trim() || (!group && !name.trim())}
            onClick={() => void store()}
          >
            Save to the draft
          </Btn>
          <Btn onClick={() => setText(begun.body)}>Discard</Btn>
          <Text color="soft">It takes effect with the next release.</Text>
        </Flex>
      )}
    </Box>
  );
}

function title(group: Group | undefined, p: Preview | undefined, changed: boolean) {
  if (!p || p.errors.length > 0) return group ? <b>{group.name}</b> : "A new group";
  const adds = p.in.filter((m) => m.change === "joins").length;
  const drops = [...p.out, ...p.undecided].filter((m) => m.change).length;
  const told = p.counts.undecided ? `. ${plural(p.counts.undecided, "workload is", "workloads are")} undecided` : "";
  if (group && changed) {
    const parts = [adds && `adds ${plural(adds, "workload")} to`, drops && `removes ${plural(drops, "workload")} from`]
      .filter(Boolean)
      .join(" and ");
    return (
      <>
        The change {parts || "does not change the members of"} <b>{group.name}</b>
        {told}.
      </>
    );
  }
  return (
    <>
      <b>{group?.name ?? "The group"}</b> has {plural(p.counts.in, "member")}
      {p.unaddressed > 0 && `, ${n(p.unaddressed)} of them without an address now`}
      {told}.
    </>
  );
}

/** What its members were seen to do in the window. */
function Seen({ name }: { name: string }) {
  const w = useWindow();
  const { data: u } = api.useQuery("get", "/api/v1/groups/use", { params: { query: { ...w, name } } });
  if (!u || u.reached.conversations + u.reaches.conversations === 0) return null;
  const one = (words: string, x: Schemas["UseOut"]) =>
    x.conversations > 0 && (
      <Text as="span" mr="18px" whiteSpace="nowrap" display="inline-block" data-seen={words}>
        {`${words}: ${plural(x.conversations, "conversation")} in ${plural(x.pairs, "pair")}, last ${atMinute(x.last!)} `}
        <Spark values={x.spark} />
      </Text>
    );
  return (
    <Text color="soft" mt="4px">
      {one("reached", u.reached)}
      {one("reaches", u.reaches)}
    </Text>
  );
}

function UsedBy({ group, shares }: { group: Group; shares: Preview["shares"] }) {
  const navigate = useNavigate();
  const carried = useCarried();
  return (
    <Text color="soft" mt="6px">
      {group.usedBy.length === 0 ? "no rule uses it" : "used by "}
      {group.usedBy.slice(0, 6).map((u, i) => (
        <chakra.span key={u.line}>
          {i > 0 && ", "}
          <Link title={u.text} onClick={() => void navigate(`/policy${carried}${carried ? "&" : "?"}line=${u.line}`)}>
            {u.kind} on line {u.line}
          </Link>
        </chakra.span>
      ))}
      {group.usedBy.length > 6 && ` and ${group.usedBy.length - 6} more`}
      {shares.length > 0 && (
        <>
          {" · shares members with "}
          {shares.slice(0, 4).map((s, i) => (
            <chakra.span key={s.group}>
              {i > 0 && ", "}
              <Link onClick={() => void navigate(`/groups/${encodeURIComponent(s.group)}${carried}`)}>{s.group}</Link> (
              {n(s.both)})
            </chakra.span>
          ))}
        </>
      )}
    </Text>
  );
}
