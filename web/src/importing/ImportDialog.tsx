// Import a CSV: choose, see what it would do, do it, see what became of each row.
import { Box, chakra, Flex, Input, Progress, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, queryClient, type Schemas } from "../api/client";
import { Btn, inputStyle, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { Report } from "./Report";

type Kind = "workloads" | "flows";
type Answer = Schemas["ImportAnswer"];

const needed: Record<Kind, string> = {
  workloads: "Columns: id (needed), name, addresses (separated by blanks), os, kind, from, until, and tag:KEY for each tag.",
  flows: "Columns: start, src, dst, proto, dport (needed); end, sport, bytes, packets, connections, outcome, observer.",
};

async function send(kind: Kind, file: File, source: string, preview: boolean): Promise<Answer> {
  const query = new URLSearchParams({ source: source.trim() || "inventory", preview: String(preview) });
  const answer = await fetch(`/api/imports/${kind}?${query}`, { method: "POST", headers: { "Content-Type": "text/csv" }, body: file });
  const json: unknown = await answer.json();
  if (!answer.ok) throw json;
  return json as Answer;
}

export function ImportDialog({ kind, open, onClose }: { kind: Kind; open: boolean; onClose: () => void }) {
  const [file, setFile] = useState<File>();
  const [source, setSource] = useState("inventory");
  const [preview, setPreview] = useState<Schemas["ImportReport"]>();
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const running = api.useQuery("get", "/api/jobs/{id}", { params: { path: { id: job ?? 0 } } }, { enabled: job !== undefined, staleTime: 0, refetchInterval: (q) => (q.state.data?.state === "running" || !q.state.data ? 300 : false) });
  const state = job === undefined ? undefined : running.data;

  const close = () => {
    if (job !== undefined) void queryClient.invalidateQueries();
    setFile(undefined);
    setPreview(undefined);
    setJob(undefined);
    setWrong(undefined);
    onClose();
  };
  const run = async (dry: boolean, f: File) => {
    setBusy(true);
    setWrong(undefined);
    try {
      const a = await send(kind, f, source, dry);
      if (a.preview) setPreview(a.preview);
      if (a.job) setJob(a.job.id);
    } catch (e) {
      setPreview(undefined);
      setWrong(problem(e));
    }
    setBusy(false);
  };
  return (
    <Modal
      title={`Import ${kind}`}
      open={open}
      onClose={close}
      size="lg"
      footer={
        <>
              {!state && (
                <Btn primary disabled={!file || !preview || busy} onClick={() => file && void run(false, file)}>
                  {preview ? `Import ${plural(preview.rows - preview.bad, "row")}` : "Import"}
                </Btn>
              )}
              <Btn onClick={close}>{state?.state === "done" ? "Done" : "Close"}</Btn>
        </>
      }
    >
              <Text color="soft" mb="8px">
                {needed[kind]}
              </Text>
              {!state && (
                <Flex gap="12px" align="center" mb="8px">
                  <chakra.input
                    type="file"
                    accept=".csv,text/csv"
                    aria-label="CSV file"
                    onChange={(e) => {
                      const f = e.target.files?.[0];
                      setFile(f);
                      setPreview(undefined);
                      if (f) void run(true, f);
                    }}
                  />
                  {kind === "workloads" && (
                    <Flex align="center" gap="6px">
                      <Text>from the source</Text>
                      <Input {...inputStyle} w="140px" aria-label="source" value={source} onChange={(e) => setSource(e.target.value)} />
                    </Flex>
                  )}
                </Flex>
              )}
              {wrong && <ProblemNote>{wrong}</ProblemNote>}
              {busy && <Text color="soft">reading…</Text>}
              {preview && !state && <Report kind={kind} report={preview} done={false} />}
              {state?.state === "running" && (
                <Box role="status">
                  <Progress.Root value={state.done * 100} size="sm">
                    <Progress.Track>
                      <Progress.Range bg="accent" />
                    </Progress.Track>
                  </Progress.Root>
                  <Text color="soft" mt="4px">
                    {state.message || "starting"}. You may close this; it goes on.
                  </Text>
                </Box>
              )}
              {state && (state.state === "failed" || state.state === "cancelled") && <ProblemNote>{state.message}</ProblemNote>}
              {state?.state === "done" && <Report kind={kind} report={state.result as Schemas["ImportReport"]} done />}
    </Modal>
  );
}
