// What a policy can begin with: groups by the tags that there are, environments
// kept apart, statements that must hold; looked through, and taken in one step.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, caughtUp, fetchClient, problem, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Empty, Link, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { n, plural } from "../marks/words";

type Starter = Schemas["Starter"];
const kinds: [Starter["kind"], string, string][] = [
  ["environment", "Environments", "a group for each value that is not misspelt"],
  ["group", "Applications", "a group for each application, tier and environment that have members"],
  ["guardrail", "Guardrails", "rules that decide first"],
  ["assertion", "Assertions", "what must hold for all traffic; a rule that breaks one is reported at once"],
];

export function Starters({ close }: { close: () => void }) {
  const w = useWindow();
  const { data, error } = api.useQuery("get", "/api/v1/starters", { params: { query: w } });
  const [chosen, setOff] = useState<string[]>();
  const [wrong, setWrong] = useState<string>();
  const take = api.useMutation("post", "/api/v1/starters");
  const all = data?.starters ?? [];
  // What something speaks against is not chosen until somebody chooses it.
  const off = chosen ?? all.filter((s) => s.doubt).map((s) => s.id);
  const ids = all.filter((s) => !off.includes(s.id)).map((s) => s.id);
  const revision = data?.revision ?? 0;
  const would = useQuery({
    queryKey: ["consequences of the starters", ids, revision, w],
    enabled: ids.length > 0,
    queryFn: async () => {
      const out = await fetchClient.POST("/api/v1/starters", {
        params: { query: { ...w, dryRun: true } },
        body: { revision, ids },
      });
      if (out.error) throw out.error;
      return out.data;
    },
  });
  const errors = would.data?.errors ?? [];
  const run = async () => {
    try {
      const out = await take.mutateAsync({ params: { query: w }, body: { revision, ids } });
      say(`${out.words}; Ctrl Z undoes it`);
      close();
    } catch (e) {
      setWrong(problem(e));
    }
    await caughtUp();
  };
  return (
    <Modal
      title="Start from the tags"
      open
      onClose={close}
      size="xl"
      footer={
        <>
          <Btn
            primary
            loading={take.isPending}
            disabled={ids.length === 0 || errors.length > 0}
            onClick={() => void run()}
          >
            Add {plural(ids.length, "statement")} to the draft
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      {(error || wrong) && <ProblemNote>{wrong ?? problem(error)}</ProblemNote>}
      {errors.map((e) => (
        <ProblemNote key={e.message}>{e.message}</ProblemNote>
      ))}
      {data && all.length === 0 && (
        <Empty title="The draft already has all of it">
          Each environment, application and tier with members has a group.
        </Empty>
      )}
      {kinds.map(([kind, title, words]) => {
        const some = all.filter((s) => s.kind === kind);
        if (some.length === 0) return null;
        const on = some.filter((s) => !off.includes(s.id)).length;
        const others = off.filter((id) => !some.some((s) => s.id === id));
        return (
          <Box key={kind} mb="10px" data-starters={kind}>
            <Flex gap="10px" align="baseline">
              <Text fontFamily="heading" fontSize="15px">
                {title}
              </Text>
              <Text color="soft">{words}</Text>
              <Link ml="auto" onClick={() => setOff(on ? [...others, ...some.map((s) => s.id)] : others)}>
                {on ? "none of them" : "all of them"}
              </Link>
            </Flex>
            <Box maxH="150px" overflowY="auto">
              {some.map((s) => (
                <chakra.label key={s.id} display="flex" gap="8px" py="2px" cursor="pointer" title={s.text}>
                  <input
                    type="checkbox"
                    checked={!off.includes(s.id)}
                    onChange={(e) => setOff(e.target.checked ? off.filter((x) => x !== s.id) : [...off, s.id])}
                  />
                  <Box minW="0">
                    <Text truncate>{s.words}</Text>
                    {s.doubt && (
                      <Text color="open" fontSize="12px" data-doubt>
                        {s.doubt}
                      </Text>
                    )}
                  </Box>
                  <Text ml="auto" color="soft" flexShrink={0}>
                    {s.kind === "environment" || s.kind === "group" ? n(s.members) : ""}
                  </Text>
                </chakra.label>
              ))}
            </Box>
          </Box>
        );
      })}
      {would.data?.consequences && all.length > 0 && <ConsequencesList c={would.data.consequences} />}
    </Modal>
  );
}
