// The inventory sources: whose values win, scripts that feed them, and the whole
// estate in and out.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp } from "../api/client";
import { useRestore } from "../imports/useRestore";
import { say } from "../frame/toaster";
import { Secret, TokenList } from "../frame/Tokens";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { atMinute, n, plural } from "../marks/words";

export function SourcesDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  const restore = useRestore();
  return (
    <Modal title="Sources" open={open} onClose={onClose} size="lg" footer={<Btn onClick={onClose}>Close</Btn>}>
      <Order />
      <Tokens />
      <Text fontFamily="heading" fontSize="16px" mt="16px">
        The whole estate
      </Text>
      <Text color="soft">
        Contains workloads with their sources and history, the policy with all revisions, selections and refusals. It
        does not contain conversations.
      </Text>
      <Flex gap="14px" mt="4px" align="center">
        <chakra.a href="/api/v1/estate.jsonl" download textDecoration="underline" textUnderlineOffset="3px">
          Export as JSON Lines
        </chakra.a>
        <chakra.label color="soft">
          Restore into an empty estate:{" "}
          <chakra.input
            type="file"
            accept=".jsonl"
            aria-label="export to restore"
            onChange={(e) => e.target.files?.[0] && void restore.start(e.target.files[0])}
          />
        </chakra.label>
      </Flex>
      {restore.words && <Text role="status">{restore.words}</Text>}
    </Modal>
  );
}

function Order() {
  const { data } = api.useQuery("get", "/api/v1/sources");
  const rank = api.useMutation("put", "/api/v1/sources");
  const names = data?.map((s) => s.name) ?? [];
  const move = async (i: number, by: number) => {
    const next = [...names];
    [next[i], next[i + by]] = [next[i + by]!, next[i]!];
    try {
      await rank.mutateAsync({ body: { names: next } });
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Box>
      <Text color="soft" mb="4px">
        Where sources disagree, the higher one wins. Values set by hand outrank all sources.
      </Text>
      {data?.length === 0 && <Text>No source yet. Import a file, or let a script send its list.</Text>}
      {data?.map((s, i) => (
        <Flex
          key={s.name}
          align="baseline"
          gap="10px"
          py="3px"
          borderBottomWidth="1px"
          borderColor="line2"
          data-source={s.name}
        >
          <Text w="18px" textAlign="right" color="soft">
            {i + 1}
          </Text>
          <Text fontWeight="600" w="130px" truncate>
            {s.name}
          </Text>
          <Text color="soft" flex="1">
            lists {plural(s.listed, "workload")}, {n(s.tags)} tag values
            {s.taken && `; last update ${atMinute(s.taken)}`}
            {s.whole && `, complete list ${atMinute(s.whole)}`}
          </Text>
          <Btn disabled={i === 0} onClick={() => void move(i, -1)} aria-label={`${s.name} up`}>
            Up
          </Btn>
          <Btn disabled={i === names.length - 1} onClick={() => void move(i, 1)} aria-label={`${s.name} down`}>
            Down
          </Btn>
        </Flex>
      ))}
    </Box>
  );
}

function Tokens() {
  const add = api.useMutation("post", "/api/v1/tokens");
  const [name, setName] = useState("");
  const [source, setSource] = useState("");
  const [secret, setSecret] = useState<string>();
  const make = async () => {
    try {
      const t = await add.mutateAsync({ body: { name: name.trim(), source: source.trim() } });
      setSecret(t.secret);
      setName("");
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  const example = `curl -X POST '${location.origin}/api/v1/inventory/workloads?complete=true' \\
  -H 'Authorization: Bearer ${secret ?? "TOKEN"}' -H 'Content-Type: application/json' \\
  -d '{"workloads": [{"id": "m-1", "name": "booking-entry-01", "addresses": ["10.20.1.10"], "tags": {"env": "live"}}]}'`;
  return (
    <Box mt="16px">
      <Text fontFamily="heading" fontSize="16px">
        Scripts
      </Text>
      <Text color="soft" mb="4px">
        A script sends the list of one source with a token that allows nothing else.
      </Text>
      <TokenList of={(t) => !t.releases} purpose={(t) => `feeds ${t.source}`} />
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void make();
        }}
      >
        <Flex gap="6px" mt="4px">
          <Entry
            w="150px"
            placeholder="name of the script"
            aria-label="name of the script"
            value={name}
            set={setName}
          />
          <Entry
            w="130px"
            placeholder="source it feeds"
            aria-label="source it feeds"
            list="source-names"
            value={source}
            set={setSource}
          />
          <Btn type="submit" disabled={!name.trim() || !source.trim()}>
            Create a token
          </Btn>
        </Flex>
      </form>
      {secret && <Secret secret={secret} />}
      <chakra.pre
        fontFamily="mono"
        fontSize="11.5px"
        bg="paper"
        borderWidth="1px"
        borderColor="line2"
        borderRadius="5px"
        p="8px"
        mt="6px"
        overflowX="auto"
      >
        {example}
      </chakra.pre>
      {add.error && <ProblemNote>{problem(add.error)}</ProblemNote>}
    </Box>
  );
}
