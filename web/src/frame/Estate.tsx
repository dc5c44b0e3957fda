// The name of the estate, and the made-up company: loaded into an empty estate, and
// removed again.
import { Box, chakra, Flex, Progress, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { useJob } from "../api/job";
import { Btn, Entry, Field, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { say } from "./toaster";

export function EstateName({ summary }: { summary: Schemas["Summary"] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <chakra.button
        type="button"
        onClick={() => setOpen(true)}
        cursor="pointer"
        minW="0"
        truncate
        title="Name the estate"
        _hover={{ textDecoration: "underline" }}
      >
        {summary.estate}
      </chakra.button>
      {open && <EstateDialog summary={summary} onClose={() => setOpen(false)} />}
    </>
  );
}

function EstateDialog({ summary, onClose }: { summary: Schemas["Summary"]; onClose: () => void }) {
  const [name, setName] = useState(summary.estate);
  const [wrong, setWrong] = useState<string>();
  const rename = api.useMutation("put", "/api/v1/company");
  const save = async () => {
    try {
      await rename.mutateAsync({ body: { name } });
      await caughtUp();
      onClose();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const same = name.trim() === summary.estate || !name.trim();
  return (
    <Modal
      title="This estate"
      open
      onClose={onClose}
      size="sm"
      footer={
        <>
          <Btn primary disabled={same} loading={rename.isPending} onClick={() => void save()}>
            Save the name
          </Btn>
          <Btn onClick={onClose}>Close</Btn>
        </>
      }
    >
      <Field label="Name">
        <Entry value={name} set={setName} aria-label="name of the estate" maxLength={60} flex="1" />
      </Field>
      <Text color="soft">The name is shown at the top of every page and in reports.</Text>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {summary.madeUp && <Remove onRemoved={onClose} />}
    </Modal>
  );
}

function Remove({ onRemoved }: { onRemoved: () => void }) {
  const [asked, setAsked] = useState(false);
  const [wrong, setWrong] = useState<string>();
  const navigate = useNavigate();
  const remove = api.useMutation("delete", "/api/v1/company/made-up");
  const { data } = api.useQuery("get", "/api/v1/company", {}, { enabled: asked });
  const go = async () => {
    setWrong(undefined);
    try {
      await remove.mutateAsync({ params: { query: { added: !!data?.added } } });
      await caughtUp();
      onRemoved();
      say("The made-up company is removed");
      void navigate("/");
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Box borderTopWidth="1px" borderColor="line2" mt="12px" pt="10px">
      <Text mb="6px">This is a made-up company. Removing it leaves an empty estate for your own data.</Text>
      {!asked && <Btn onClick={() => setAsked(true)}>Remove it again…</Btn>}
      {asked && (
        <>
          <ProblemNote>
            Its workloads, traffic, policy, releases and history are deleted
            {data?.added ? `, with ${data.added} that users have added` : ""}, and every edit made here. This cannot be
            undone.
          </ProblemNote>
          {wrong && <ProblemNote>{wrong}</ProblemNote>}
          <Flex gap="8px">
            <Btn disabled={!data} loading={remove.isPending} onClick={() => void go()}>
              {data?.added ? "Remove everything" : "Remove the made-up company"}
            </Btn>
            <Btn onClick={() => setAsked(false)}>Keep it</Btn>
          </Flex>
        </>
      )}
    </Box>
  );
}

/** The button that loads the made-up company, and its progress. */
export function LookAround() {
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const { data } = useJob(job);
  const load = api.useMutation("post", "/api/v1/company/made-up");
  const done = data?.state === "done";
  useEffect(() => {
    if (done) void caughtUp();
  }, [done]);
  const start = async () => {
    setWrong(undefined);
    try {
      setJob((await load.mutateAsync({})).id);
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const failed = data && data.state !== "running" && !done ? data.message || "The load was stopped" : undefined;
  return (
    <>
      <Btn disabled={!!job && !failed} loading={load.isPending} onClick={() => void start()}>
        Look around in a made-up company
      </Btn>
      {data?.state === "running" && (
        <Box role="status" mt="10px" maxW="320px">
          <Progress.Root value={data.done * 100} size="sm" aria-label="loading the made-up company">
            <Progress.Track>
              <Progress.Range bg="accent" />
            </Progress.Track>
          </Progress.Root>
          <Text>{data.message || "starting"}</Text>
        </Box>
      )}
      {(wrong ?? failed) && <ProblemNote>{wrong ?? failed}</ProblemNote>}
    </>
  );
}
