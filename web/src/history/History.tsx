// What was done to the policy, by whom, and back to any of it.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, caughtUp, problem } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useAddress, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { moveFocus } from "../ledger/shared";
import { Btn, Empty, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { partsOf, useNextPage } from "../marks/pages";
import { fullTime, plural } from "../marks/words";

const pageSize = 200;

/** The revisions, the newest first; the address says which one is looked at. */
export function History({ head }: { head: number }) {
  const { search, change } = useAddress();
  const w = useWindow();
  const at = Number(search.get("history"));
  const list = api.useInfiniteQuery(
    "get",
    "/api/v1/policy/revisions",
    { params: { query: { limit: pageSize } } },
    {
      ...partsOf<{ total: number }>(pageSize),
      getNextPageParam: (last: unknown[], all: unknown[][]) =>
        last.length === pageSize ? all.length * pageSize : undefined,
    },
  );
  const rows = list.data?.pages.flat() ?? [];
  useNextPage(list, 0, rows.length, rows.length + 1); // they are few enough to read all
  const chosen = rows.find((r) => r.no === at);
  const restore = api.useMutation("post", "/api/v1/policy/revisions/{no}/restore");
  const back = async () => {
    try {
      const out = await restore.mutateAsync({ params: { path: { no: at }, query: w } });
      say(`${out.words}; Ctrl Z undoes it`);
      change({ history: null });
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  return (
    <Modal
      title={`${plural(head, "revision")} of the policy`}
      open
      onClose={() => change({ history: null })}
      size="xl"
      footer={
        <>
          {chosen && chosen.no !== head && (
            <Btn primary loading={restore.isPending} onClick={() => void back()}>
              Go back to revision {chosen.no}
            </Btn>
          )}
          <Btn onClick={() => change({ history: null })}>Close</Btn>
        </>
      }
    >
      <Flex gap="18px" minH="0">
        <Box w="52%" maxH="52vh" overflowY="auto" onKeyDown={moveFocus} aria-label="revisions" role="group">
          {rows.map((r) => (
            <chakra.button
              key={r.no}
              type="button"
              data-row="0"
              data-revision={r.no}
              aria-pressed={r.no === at}
              onClick={() => change({ history: String(r.no) }, { replace: true })}
              onFocus={() => change({ history: String(r.no) }, { replace: true })}
              display="block"
              w="100%"
              textAlign="left"
              px="8px"
              py="4px"
              cursor="pointer"
              bg={r.no === at ? "tint" : undefined}
              borderBottomWidth="1px"
              borderColor="line2"
            >
              <b>{r.no}</b> {r.words}
              <Text color="soft" fontSize="12px">
                {r.author}, {fullTime(r.at)}
                {r.no === head && " · the draft"}
              </Text>
            </chakra.button>
          ))}
          {!list.isLoading && rows.length === 0 && <Empty title="No revisions yet" />}
        </Box>
        <Box flex="1" minW="0" maxH="52vh" overflowY="auto">
          {chosen ? (
            chosen.no === head ? (
              <Text color="soft">This is the draft.</Text>
            ) : (
              <Beside no={chosen.no} />
            )
          ) : null}
          {!chosen && rows.length > 0 && <Text color="soft">Choose a revision to compare the draft with.</Text>}
        </Box>
      </Flex>
    </Modal>
  );
}

/** What the draft has and lacks beside a revision, and what going back would do. */
function Beside({ no }: { no: number }) {
  const w = useWindow();
  const d = api.useQuery("get", "/api/v1/policy/revisions/{no}/difference", { params: { path: { no } } });
  const would = api.useQuery("post", "/api/v1/policy/revisions/{no}/restore", {
    params: { path: { no }, query: { ...w, dryRun: true } },
  });
  const lines = (what: "added" | "removed") => d.data?.statements.filter((s) => s.change === what) ?? [];
  return (
    <Box data-difference={no}>
      {d.error && <ProblemNote>{problem(d.error)}</ProblemNote>}
      {d.data?.statements.length === 0 && <Text>The draft is the same.</Text>}
      {(
        [
          ["Only revision " + no + " has", lines("removed")],
          ["Only the draft has", lines("added")],
        ] as const
      ).map(
        ([head, all]) =>
          all.length > 0 && (
            <Box key={head} mb="8px">
              <Text fontWeight="600">{head}</Text>
              {all.map((s) => (
                <Text key={s.text} fontFamily="mono" fontSize="12px">
                  {s.text}
                </Text>
              ))}
            </Box>
          ),
      )}
      {would.data?.consequences && (
        <>
          <Text fontWeight="600">Going back</Text>
          <ConsequencesList c={would.data.consequences} />
        </>
      )}
    </Box>
  );
}
