// The policy as the text it is: errors in place, import and export.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { CodeEditor } from "../editor/CodeEditor";
import { useVocabulary } from "../editor/useVocabulary";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, ProblemNote } from "../marks/Controls";
import { plural } from "../marks/words";

/** Shows the policy's text; with a text that was dropped, as a change that is not saved. */
export function TextView({ policy, dropped }: { policy: Schemas["PolicyOut"]; dropped?: string }) {
  const w = useWindow();
  const [text, setText] = useState(dropped ?? policy.text);
  const [base, setBase] = useState({ revision: policy.revision, text: policy.text });
  const [wrong, setWrong] = useState<string>();
  const words = useVocabulary();
  const preview = api.useMutation("put", "/api/v1/policy/text");
  const save = api.useMutation("put", "/api/v1/policy/text");
  const { mutate: look } = preview;
  const changed = text !== base.text;
  if (policy.revision !== base.revision && !changed) {
    setBase({ revision: policy.revision, text: policy.text });
    setText(policy.text);
  }
  const moved = changed && policy.revision !== base.revision;
  useEffect(() => {
    if (!changed) return;
    const t = setTimeout(() => look({ params: { query: { ...w, dryRun: true } }, body: { text } }), 300);
    return () => clearTimeout(t);
  }, [text, changed, w, look]);
  const p = changed ? preview.data : undefined;
  const store = async () => {
    setWrong(undefined);
    try {
      await save.mutateAsync({ params: { query: w, header: { "If-Match": `"${base.revision}"` } }, body: { text } });
      say("The draft now has this text");
      setBase({ revision: -1, text });
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Flex direction="column" flex="1" minH="0" pb="10px">
      <Flex gap="10px" align="center" mb="6px">
        <Btn
          primary
          disabled={!changed || !p || p.errors.length > 0}
          loading={save.isPending}
          onClick={() => void store()}
        >
          Save to the draft
        </Btn>
        <Btn
          disabled={!changed}
          onClick={() => {
            setBase({ revision: policy.revision, text: policy.text });
            setText(policy.text);
          }}
        >
          Discard
        </Btn>
        <chakra.label
          cursor="pointer"
          borderWidth="1px"
          borderColor="line"
          borderRadius="5px"
          px="10px"
          h="27px"
          lineHeight="25px"
          bg="sheet"
          _focusWithin={{ borderColor: "accent" }}
        >
          Import text…
          <chakra.input
            type="file"
            accept=".orchard,.txt,text/plain"
            position="absolute"
            opacity="0"
            w="1px"
            onChange={(e) => {
              const f = e.target.files?.[0];
              e.target.value = "";
              if (f) void f.text().then(setText);
            }}
          />
        </chakra.label>
        <chakra.a href="/api/v1/policy.orchard" download color="soft" textDecoration="underline">
          Export text
        </chakra.a>
        <Text color={p?.errors.length ? "reject" : "soft"} role="status">
          {p?.errors.length ? plural(p.errors.length, "error") : changed ? "changed, not saved" : "saved"}
        </Text>
      </Flex>
      {moved && (
        <ProblemNote>
          The draft was changed elsewhere while you were writing (now revision {policy.revision}). Your text is still
          here. Copy it, press Discard to load the current draft, and merge the two.
        </ProblemNote>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      <Box flex="1" minH="0">
        <CodeEditor
          value={text}
          onChange={setText}
          errors={p?.errors ?? []}
          label="policy text"
          numbered
          words={words}
          onSave={() => void store()}
          height="100%"
        />
      </Box>
      {p && p.errors.length > 0 && (
        <Box maxH="90px" overflowY="auto" mt="6px">
          {p.errors.map((e) => (
            <Text key={`${e.line} ${e.column} ${e.message}`} color="reject">
              line {e.line}, column {e.column}: {e.message}
            </Text>
          ))}
        </Box>
      )}
      {p?.consequences && (
        <Box mt="6px" maxH="110px" overflowY="auto">
          <ConsequencesList c={p.consequences} />
        </Box>
      )}
    </Flex>
  );
}
