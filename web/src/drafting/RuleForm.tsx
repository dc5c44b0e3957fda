// A rule is written in the language itself, with completion, errors in place
// and what saving would do.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { api, problem, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { CodeEditor } from "../editor/CodeEditor";
import { useVocabulary } from "../editor/useVocabulary";
import { useWindow } from "../frame/address";
import { Btn, ProblemNote } from "../marks/Controls";
import { useEdit } from "./useEdit";

type Props = {
  policy: Schemas["PolicyOut"];
  edit: { op: "add" | "change"; line?: number; layer?: string };
  start: string;
  onDone: () => void;
};

export function RuleForm({ policy, edit, start, onDone }: Props) {
  const w = useWindow();
  const [text, setText] = useState(start);
  const [asked, setAsked] = useState("");
  const [wrong, setWrong] = useState<string>();
  // The revision that this was begun on: a change by somebody else in between
  // is then noticed, not overwritten.
  const [revision] = useState(policy.revision);
  const words = useVocabulary();
  const preview = api.useMutation("post", "/api/v1/policy/edits");
  const saving = useEdit();
  const { mutate: look } = preview;
  const { op, line, layer } = edit;
  useEffect(() => {
    if (!text.trim() || text === start) return;
    const t = setTimeout(() => {
      setAsked(text);
      look({ params: { query: { ...w, dryRun: true } }, body: { op, line, layer, text, revision } });
    }, 200);
    return () => clearTimeout(t);
  }, [text, start, op, line, layer, revision, w, look]);
  const p = asked === text ? preview.data : undefined;
  // What is said below the text is not to be hidden below the edge.
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    void box.current?.scrollIntoView({ block: "nearest" });
  }, [p]);
  const store = async () => {
    setWrong(undefined);
    try {
      await saving.edit({ op, line, layer, text, revision });
      onDone();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Box
      ref={box}
      py="8px"
      pl="30px"
      borderBottomWidth="1px"
      borderColor="line2"
      bg="tint"
      pr="8px"
      onKeyDown={(e) => e.key === "Escape" && !e.defaultPrevented && onDone()}
      data-form={op}
    >
      <CodeEditor
        value={text}
        onChange={setText}
        errors={p?.errors ?? []}
        label={op === "add" ? "the new rule" : "the rule"}
        words={words}
        onSave={() => void store()}
        autoFocus
      />
      {!text && (
        <Text color="soft" mt="4px">
          For example: permit booking-entry-live -&gt; booking-logic-live on tcp/8443 &quot;why&quot;
        </Text>
      )}
      {p?.errors.map((e) => (
        <Text key={e.column + e.message} color="reject" role="alert" mt="3px">
          {e.message}
        </Text>
      ))}
      {p?.consequences && (
        <Box mt="6px">
          <ConsequencesList c={p.consequences} />
        </Box>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      <Flex gap="8px" mt="8px">
        <Btn
          primary
          loading={saving.busy}
          disabled={!text.trim() || text === start || !p || p.errors.length > 0}
          onClick={() => void store()}
        >
          Save to the draft
        </Btn>
        <Btn onClick={onDone}>Cancel</Btn>
        <Text color="soft" alignSelf="center">
          Ctrl Enter saves
        </Text>
      </Flex>
    </Box>
  );
}
