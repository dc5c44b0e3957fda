// Import a file: choose, say what its columns are, see what it would do, do it,
// see what became of each row.
import { Box, chakra, Flex, Input, Progress, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, send as request, type Schemas } from "../api/client";
import { Btn, inputStyle, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { Mapping } from "./Mapping";
import { Report } from "./Report";

type Kind = "workloads" | "flows";
type Answer = Schemas["ImportAnswer"];
type Options = {
  source: string;
  complete: boolean;
  directions?: boolean;
  mapping?: Record<string, string>;
  confirm?: number;
};

const needed: Record<Kind, string> = {
  workloads:
    "CSV with any headings, or JSON Lines. Our own columns: id, name, addresses (separated by blanks), os, kind, from, until, and tag:KEY for each tag.",
  flows:
    "CSV with any headings, JSON Lines, an IPFIX file, or a packet capture (pcap, pcapng). Our own columns: start, src, dst, proto, dport; end, sport, bytes, packets, connections, outcome, observer.",
};

async function send(kind: Kind, file: File, o: Options, preview: boolean): Promise<Answer> {
  const query = new URLSearchParams({
    source: o.source.trim() || "inventory",
    preview: String(preview),
    complete: String(o.complete),
    directions: String(!!o.directions),
    name: file.name,
  });
  if (/\.(jsonl|ndjson)$/i.test(file.name)) query.set("format", "lines");
  if (o.mapping) query.set("mapping", JSON.stringify(o.mapping));
  if (o.confirm) query.set("confirm", String(o.confirm));
  const answer = await request(
    () =>
      new Request(`/api/v1/imports/${kind}?${query}`, {
        method: "POST",
        headers: { "Content-Type": "text/csv" },
        body: file,
      }),
  );
  const json: unknown = await answer.json();
  if (!answer.ok) throw json;
  return json as Answer;
}

export function ImportDialog({ kind, open, onClose }: { kind: Kind; open: boolean; onClose: () => void }) {
  const [file, setFile] = useState<File>();
  const [options, setOptions] = useState<Options>({ source: "inventory", complete: false });
  const [preview, setPreview] = useState<Schemas["ImportReport"]>();
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const [looked, setLooked] = useState("inventory"); // the source that the preview is for
  const sources = api.useQuery("get", "/api/v1/sources", {}, { enabled: open && kind === "workloads" });
  const running = api.useQuery(
    "get",
    "/api/v1/jobs/{id}",
    { params: { path: { id: job ?? 0 } } },
    {
      enabled: job !== undefined,
      staleTime: 0,
      refetchInterval: (q) => (q.state.data?.state === "running" || !q.state.data ? 300 : false),
    },
  );
  const state = job === undefined ? undefined : running.data;

  const close = () => {
    if (job !== undefined) void caughtUp();
    setFile(undefined);
    setPreview(undefined);
    setJob(undefined);
    setWrong(undefined);
    setOptions((o) => ({ source: o.source, complete: false }));
    onClose();
  };
  const run = async (dry: boolean, f: File, o: Options) => {
    if (dry) setLooked(o.source);
    setBusy(true);
    setWrong(undefined);
    try {
      const a = await send(kind, f, o, dry);
      if (a.preview) setPreview(a.preview);
      if (a.job) setJob(a.job.id);
    } catch (e) {
      setPreview(undefined);
      setWrong(problem(e));
    }
    setBusy(false);
  };
  const again = (changed: Options) => {
    const o = { ...changed, confirm: undefined };
    setOptions(o);
    if (file) void run(true, file, o);
  };
  const usable = preview && !preview.unusable;
  const asks = preview?.confirm && options.confirm !== preview.confirm; // a list that lacks much
  return (
    <Modal
      title={`Import ${kind}`}
      open={open}
      onClose={close}
      size="xl"
      footer={
        <>
          {!state && (
            <Btn
              primary
              disabled={!file || !usable || busy || !!asks}
              onClick={() => file && void run(false, file, options)}
            >
              {usable ? `Import ${plural(preview.rows - preview.bad, "row")}` : "Import"}
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
        <Flex gap="14px" align="center" mb="8px" wrap="wrap">
          <chakra.input
            type="file"
            accept={
              kind === "workloads"
                ? ".csv,.jsonl,.ndjson,text/csv"
                : ".csv,.jsonl,.ndjson,.ipfix,.pcap,.pcapng,.cap,text/csv"
            }
            aria-label="CSV file"
            onChange={(e) => {
              const f = e.target.files?.[0];
              setFile(f);
              setPreview(undefined);
              const o = { ...options, mapping: undefined };
              setOptions(o);
              if (f) void run(true, f, o);
            }}
          />
          {kind === "flows" &&
            (!preview?.fileFormat || preview.fileFormat === "CSV" || preview.fileFormat === "JSON Lines") && (
              <chakra.label
                display="flex"
                gap="5px"
                alignItems="center"
                title="As an exporter writes it down: there and back in two rows. They are joined, and which end is the server is found"
              >
                <input
                  type="checkbox"
                  checked={!!options.directions}
                  onChange={(e) => again({ ...options, directions: e.target.checked })}
                />
                each row is one direction
              </chakra.label>
            )}
          {kind === "workloads" && (
            <>
              <Flex align="center" gap="6px">
                <Text>from the source</Text>
                <Input
                  {...inputStyle}
                  w="140px"
                  aria-label="source"
                  list="source-names"
                  value={options.source}
                  onChange={(e) => setOptions({ ...options, source: e.target.value })}
                  onBlur={() => options.source !== looked && again({ ...options, mapping: undefined })}
                />
                <datalist id="source-names">
                  {sources.data?.map((s) => (
                    <option key={s.name} value={s.name} />
                  ))}
                </datalist>
              </Flex>
              <chakra.label
                display="flex"
                gap="5px"
                alignItems="center"
                title="What the source listed before and is not in this file is retired: its addresses end now, what was seen of it stays"
              >
                <input
                  type="checkbox"
                  checked={options.complete}
                  onChange={(e) => again({ ...options, complete: e.target.checked })}
                />
                this is its complete list
              </chakra.label>
            </>
          )}
        </Flex>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {busy && !preview && <Text color="soft">reading…</Text>}
      {preview?.headings && !state && (
        <Mapping kind={kind} report={preview} set={(mapping) => again({ ...options, mapping })} />
      )}
      {preview?.unusable && !state && <ProblemNote>{preview.unusable}</ProblemNote>}
      {usable && preview.confirm && !state && (
        <ProblemNote>
          The list lacks {plural(preview.confirm, "workload")} that {options.source} has listed before. Was it cut off?
          They would be retired: their addresses end now.{" "}
          <chakra.label display="inline-flex" gap="5px" alignItems="center">
            <input
              type="checkbox"
              data-confirm
              checked={!asks}
              onChange={(e) => setOptions({ ...options, confirm: e.target.checked ? preview.confirm : undefined })}
            />
            the list is whole, retire them
          </chakra.label>
        </ProblemNote>
      )}
      {usable && !state && <Report kind={kind} report={preview} done={false} />}
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
