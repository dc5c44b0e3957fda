// The mend of a finding: done with one press if it keeps every verdict; else what
// it would do is shown first.
import { Box, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn } from "../marks/Controls";
import { Modal } from "../marks/Modal";

type Props = { revision: number; line: number; finding: Schemas["FindingOut"]; about: string };

export function FixButton({ revision, line, finding: f, about }: Props) {
  const w = useWindow();
  const mend = api.useMutation("post", "/api/v1/policy/fix");
  const [shown, setShown] = useState<Schemas["EditOut"]>();
  if (!f.fix) return null;
  const run = async (dryRun: boolean) => {
    try {
      const out = await mend.mutateAsync({
        params: { query: { ...w, dryRun } },
        body: { revision, line, kind: f.kind },
      });
      if (dryRun) return setShown(out);
      setShown(undefined);
      say(
        out.consequences?.changed
          ? `${out.words}; ${out.consequences.changed} conversations change verdict`
          : out.words,
      );
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <>
      <Btn
        flexShrink={0}
        maxW="340px"
        title={f.fix}
        loading={mend.isPending && !shown}
        onClick={() => void run(!!f.turns)}
      >
        <Box as="span" overflow="hidden" textOverflow="ellipsis">
          {f.fix}
          {f.turns && "…"}
        </Box>
      </Btn>
      <Modal
        title={f.fix}
        open={!!shown}
        onClose={() => setShown(undefined)}
        size="lg"
        footer={
          <>
            <Btn primary loading={mend.isPending} onClick={() => void run(false)}>
              Apply
            </Btn>
            <Btn onClick={() => setShown(undefined)}>Cancel</Btn>
          </>
        }
      >
        <Box mb="8px">
          <b>{about}</b>, {f.kind}: {f.words}
        </Box>
        <Flex>{shown?.consequences && <ConsequencesList c={shown.consequences} />}</Flex>
      </Modal>
    </>
  );
}
