// What is in force and what the draft is: never to be confused.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useCallback } from "react";
import { api, problem, queryClient } from "../api/client";
import { Link } from "../marks/Controls";
import { atMinute } from "../marks/words";
import { useWindow } from "./address";
import { say } from "./toaster";

/** Undo and redo for every edit of the draft and every tag set by hand. */
export function useUndo() {
  const undo = api.useMutation("post", "/api/policy/undo");
  const redo = api.useMutation("post", "/api/policy/redo");
  const run = useCallback(async (m: typeof undo | typeof redo, word: string) => {
    try {
      const change = await m.mutateAsync({});
      say(`${word}: ${change.words}`);
    } catch (e) {
      say(problem(e), "error");
    }
    await queryClient.invalidateQueries();
  }, []);
  return { undo: () => void run(undo, "Undone"), redo: () => void run(redo, "Done again") };
}

export function DraftStrip({ undo, live }: { undo: ReturnType<typeof useUndo>; live: boolean }) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/policy", { params: { query: w } });
  const jobs = api.useQuery("get", "/api/jobs", {}, { refetchInterval: (q) => (q.state.data?.some((j) => j.state === "running") ? 700 : false) });
  const running = jobs.data?.filter((j) => j.state === "running") ?? [];
  return (
    <Flex h="30px" align="center" gap="18px" px="20px" fontSize="12px" bg="tint" borderBottomWidth="1px" borderColor="line2" flexShrink={0}>
      <Text>
        <b>Nothing is in force yet</b>
      </Text>
      <Text color="soft" title="the draft is what you edit; it rules nothing until it is released">
        Draft: {data ? `revision ${data.revision}` : "…"}
      </Text>
      {running.map((j) => (
        <Text key={j.id} color="open" role="status">
          {j.title}: {Math.round(j.done * 100)} % {j.message && `· ${j.message}`}
        </Text>
      ))}
      {!live && (
        <Text color="reject" role="status">
          The server does not answer; what you see may be old.
        </Text>
      )}
      <Flex ml="auto" gap="14px" color="soft" minW="0">
        {data?.undo && (
          <Link onClick={undo.undo} maxW="430px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={`${data.undo.author}, ${atMinute(data.undo.at)} · Ctrl Z`}>
            ↶ Undo {data.undo.words}
          </Link>
        )}
        {data?.redo && (
          <Link onClick={undo.redo} maxW="260px" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title="Ctrl Shift Z">
            ↷ Redo {data.redo.words}
          </Link>
        )}
        <chakra.a href="/api/policy.orchard" download>
          Policy text
        </chakra.a>
      </Flex>
    </Flex>
  );
}
