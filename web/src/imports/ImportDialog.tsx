// Import a file: choose, say how it is written, see what it would do, do it, see
// what became of each row.
import { Box, chakra, Flex, Progress, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { Columns } from "./Columns";
import { FormPart } from "./FormPart";
import { Questions, Words } from "./Questions";
import { Report } from "./Report";
import { nothingToImport } from "./form";
import { type Importing, type Kind, useImport } from "./useImport";

const needed: Record<Kind, string> = {
  workloads:
    "A table with any headings, or JSON. Our own columns: id, name, addresses (separated by spaces), os, kind, from, until, and tag:KEY for each tag.",
  flows:
    "A table with any headings, JSON, an IPFIX file, or a packet capture (pcap, pcapng). Our own columns: start, src, dst, proto, dport; end, sport, bytes, packets, connections, outcome, observer.",
};

type Props = {
  kind: Kind;
  open: boolean;
  onClose: () => void;
  /** A file that was chosen before. */
  first?: File;
};

export function ImportDialog({ kind, open, onClose, first }: Props) {
  const im = useImport(kind, first);
  const { said, preview, state, busy } = im;
  const close = () => {
    im.reset();
    onClose();
  };
  const usable = preview && !preview.unusable;
  const none = usable ? nothingToImport(preview) : undefined;
  const asks = preview?.confirm && said.confirm !== preview.confirm; // a list that lacks much
  return (
    <Modal
      title={`Import ${kind}`}
      open={open}
      onClose={close}
      size="xl"
      footer={
        <>
          {!state && (
            <Btn primary disabled={!im.file || !usable || busy || !!asks || !!none} onClick={im.store}>
              {usable && !none ? `Import ${plural(preview.rows - preview.bad - preview.held, "row")}` : "Import"}
            </Btn>
          )}
          <Btn onClick={close}>{state?.state === "done" ? "Done" : "Close"}</Btn>
        </>
      }
    >
      {!im.file && (
        <Text color="soft" mb="8px">
          {needed[kind]}
        </Text>
      )}
      {!state && (
        <Flex gap="14px" align="center" mb="8px" wrap="wrap">
          <chakra.input
            type="file"
            accept={
              kind === "workloads"
                ? ".csv,.tsv,.txt,.json,.jsonl,.ndjson,.gz,.zst,text/csv"
                : ".csv,.tsv,.txt,.json,.jsonl,.ndjson,.ipfix,.pcap,.pcapng,.cap,.gz,.zst,text/csv"
            }
            aria-label="CSV file"
            onChange={(e) => im.choose(e.target.files?.[0])}
          />
          {kind === "flows" && (!preview?.fileFormat || preview.headings) && (
            <chakra.label
              display="flex"
              gap="5px"
              alignItems="center"
              title="As an exporter writes it: request and reply in two rows. The import joins them and determines the server"
            >
              <input
                type="checkbox"
                checked={said.directions}
                onChange={(e) => im.say({ directions: e.target.checked })}
              />
              each row is one direction
            </chakra.label>
          )}
          {kind === "flows" && preview?.carried && (
            <chakra.label display="flex" gap="5px" alignItems="center">
              <input
                type="checkbox"
                data-carriers
                checked={said.carriers}
                onChange={(e) => im.say({ carriers: e.target.checked })}
              />
              count tunnels as well as their contents
            </chakra.label>
          )}
          {kind === "workloads" && <Source im={im} />}
        </Flex>
      )}
      {im.wrong && <ProblemNote>{im.wrong}</ProblemNote>}
      {busy && !preview && !state && <Text color="soft">Reading…</Text>}
      {preview?.headings && !state && (
        <>
          <FormPart kind={kind} im={im} />
          <Columns
            kind={kind}
            report={preview}
            form={im.form}
            set={(heading, as) => im.sayWord("columns", heading, as)}
          />
          {kind === "flows" && <Words im={im} />}
        </>
      )}
      {preview?.unusable && !state && <ProblemNote>{preview.unusable}</ProblemNote>}
      {none && !state && <ProblemNote>{none}</ProblemNote>}
      {usable && !state && <Questions im={im} />}
      {usable && preview.confirm && !state && (
        <ProblemNote>
          The list lacks {plural(preview.confirm, "workload")} that {said.source} has listed before. Was it cut off? The
          import would retire them: their addresses end now.{" "}
          <chakra.label display="inline-flex" gap="5px" alignItems="center">
            <input
              type="checkbox"
              data-confirm
              checked={!asks}
              onChange={(e) => im.note({ confirm: e.target.checked ? preview.confirm : undefined })}
            />
            the list is complete; retire them
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
            {state.message || "starting"}. You may close this; the import continues.
          </Text>
        </Box>
      )}
      {state && (state.state === "failed" || state.state === "cancelled") && <ProblemNote>{state.message}</ProblemNote>}
      {state?.state === "done" && <Report kind={kind} report={state.result as Schemas["ImportReport"]} done />}
      {state?.state === "done" && (
        <Text color="soft" mt="6px">
          Undo (Ctrl Z) reverts the whole import.
        </Text>
      )}
      {state?.state === "done" && kind === "workloads" && <Next close={close} />}
    </Modal>
  );
}

/** Which inventory source lists this, and whether it is all that it lists. */
function Source({ im }: { im: Importing }) {
  const sources = api.useQuery("get", "/api/v1/sources");
  return (
    <>
      <Flex align="center" gap="6px">
        <Text>from the source</Text>
        <Entry
          w="140px"
          aria-label="source"
          list="source-names"
          value={im.said.source}
          set={(v) => im.say({ source: v }, 600)}
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
        title="Workloads that the source listed before and that are not in this file are retired: their addresses end now, their traffic stays"
      >
        <input type="checkbox" checked={im.said.complete} onChange={(e) => im.say({ complete: e.target.checked })} />
        this is the complete list of the source
      </chakra.label>
    </>
  );
}

/** After the first list: groups by its tags, where there are none yet. */
function Next({ close }: { close: () => void }) {
  const groups = api.useQuery("get", "/api/v1/groups");
  const navigate = useNavigate();
  if (!groups.data || groups.data.length > 0) return null;
  return (
    <Flex mt="12px" gap="12px" align="center" data-next>
      <Text>Their tags can make groups: one for each environment and for each application with its tiers.</Text>
      <Btn
        onClick={() => {
          close();
          void navigate("/groups?starters=1");
        }}
      >
        Start from the tags…
      </Btn>
    </Flex>
  );
}
