// A file dropped on any page goes to the preview of its kind.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { useCarried } from "../frame/address";
import { Btn, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { ImportDialog } from "./ImportDialog";
import { recognise, type Recognised, startOf } from "./recognise";
import { useRestore } from "./useRestore";

type Dropped = { file: File; kind?: Recognised; others: number };

const kinds: [Recognised, string][] = [
  ["workloads", "A list of workloads"],
  ["flows", "Traffic, or a capture"],
  ["policy", "A policy"],
  ["estate", "An export of an estate"],
];

const holdsFiles = (e: DragEvent) => [...(e.dataTransfer?.types ?? [])].includes("Files");

export function DropAnywhere() {
  const [over, setOver] = useState(false);
  const [dropped, setDropped] = useState<Dropped>();
  const navigate = useNavigate();
  const along = useCarried();
  useEffect(() => {
    const drag = (e: DragEvent) => {
      if (!holdsFiles(e)) return;
      e.preventDefault();
      setOver(true);
    };
    const leave = (e: DragEvent) => e.relatedTarget === null && setOver(false);
    const drop = (e: DragEvent) => {
      setOver(false);
      const file = e.dataTransfer?.files[0];
      // A field for files takes its own; an open dialog keeps what it shows.
      const at = e.target as HTMLElement;
      if (!file || at.closest("input[type=file]")) return;
      e.preventDefault();
      if (document.querySelector("[role=dialog][data-state=open]")) return;
      const others = (e.dataTransfer?.files.length ?? 1) - 1;
      void startOf(file)
        .then(recognise, () => undefined)
        .then((kind) => setDropped({ file, kind, others }));
    };
    window.addEventListener("dragover", drag);
    window.addEventListener("dragleave", leave);
    window.addEventListener("drop", drop);
    return () => {
      window.removeEventListener("dragover", drag);
      window.removeEventListener("dragleave", leave);
      window.removeEventListener("drop", drop);
    };
  }, []);
  const policy = dropped?.kind === "policy" ? dropped.file : undefined;
  useEffect(() => {
    if (!policy) return;
    void policy.text().then((text) => {
      setDropped(undefined);
      void navigate(`/policy${along ? `${along}&` : "?"}text=1`, { state: { text } });
    });
  }, [policy, navigate, along]);
  const close = () => setDropped(undefined);
  return (
    <>
      {over && (
        <Flex
          position="fixed"
          inset="0"
          zIndex="20"
          align="center"
          justify="center"
          bg="veil"
          pointerEvents="none"
          role="status"
        >
          <Text bg="ink" color="paper" px="18px" py="10px" borderRadius="5px" fontSize="14px">
            Drop workloads, flows, a capture, a policy or an export of an estate
          </Text>
        </Flex>
      )}
      {(dropped?.kind === "workloads" || dropped?.kind === "flows") && (
        <ImportDialog key={dropped.kind} kind={dropped.kind} open onClose={close} first={dropped.file} />
      )}
      {dropped?.kind === "estate" && <RestoreDialog file={dropped.file} onClose={close} />}
      {dropped && !dropped.kind && (
        <Modal title="Choose the kind of file" open onClose={close} size="sm" footer={<Btn onClick={close}>Close</Btn>}>
          <Text mb="8px">The kind of {dropped.file.name} is not clear from its first lines.</Text>
          <Flex direction="column" gap="6px" align="flex-start">
            {kinds.map(([kind, words]) => (
              <Btn key={kind} onClick={() => setDropped({ ...dropped, kind })}>
                {words}
              </Btn>
            ))}
          </Flex>
        </Modal>
      )}
      {dropped && dropped.others > 0 && (
        <Box role="status" position="fixed" bottom="12px" left="20px" color="soft" zIndex="20">
          Files are imported one at a time. Drop the others again afterwards.
        </Box>
      )}
    </>
  );
}

function RestoreDialog({ file, onClose }: { file: File; onClose: () => void }) {
  const restore = useRestore();
  return (
    <Modal
      title="Restore an export"
      open
      onClose={onClose}
      size="sm"
      footer={
        <>
          {!restore.done && (
            <Btn primary disabled={!!restore.words && !restore.failed} onClick={() => void restore.start(file)}>
              Restore
            </Btn>
          )}
          <Btn onClick={onClose}>Close</Btn>
        </>
      }
    >
      <Text>
        {file.name} is an export of a whole estate. It can be restored where there are no workloads and no policy.
      </Text>
      {restore.words &&
        (restore.failed ? <ProblemNote>{restore.words}</ProblemNote> : <Text role="status">{restore.words}</Text>)}
    </Modal>
  );
}
