// Select what a list from elsewhere names.
import { Box, Text, Textarea } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { Btn, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";

export function PasteDialog({
  open,
  onClose,
  onFound,
}: {
  open: boolean;
  onClose: () => void;
  onFound: (ids: string[]) => void;
}) {
  const [text, setText] = useState("");
  const find = api.useMutation("post", "/api/v1/workloads/find");
  const found = find.data;
  const look = (t: string) => {
    setText(t);
    if (t.trim()) find.mutate({ body: { text: t } });
    else find.reset();
  };
  return (
    <Modal
      title="Select a pasted list"
      open={open}
      onClose={onClose}
      size="lg"
      footer={
        <>
          <Btn
            primary
            disabled={!found?.workloads.length}
            onClick={() => {
              onFound(found!.workloads.map((w) => w.id));
              setText("");
              find.reset();
            }}
          >
            {found ? `Select ${plural(found.workloads.length, "workload")}` : "Select"}
          </Btn>
          <Btn onClick={onClose}>Close</Btn>
        </>
      }
    >
      <Text color="soft" mb="4px">
        Ids, names or addresses, separated by spaces, commas or line breaks.
      </Text>
      <Textarea
        aria-label="list of workloads"
        rows={9}
        fontFamily="mono"
        fontSize="12px"
        value={text}
        onChange={(e) => look(e.target.value)}
        autoFocus
      />
      {find.error && <ProblemNote>{problem(find.error)}</ProblemNote>}
      {found && (
        <Box mt="6px" data-found={found.workloads.length}>
          <Text>{plural(found.workloads.length, "workload")} found.</Text>
          {found.unknown.length > 0 && (
            <Text color="open">
              {plural(found.unknown.length, "word")} name no workload: {found.unknown.slice(0, 20).join(", ")}
              {found.unknown.length > 20 && " …"}
            </Text>
          )}
          {found.several.length > 0 && (
            <Text color="soft">Names of several workloads, all selected: {found.several.slice(0, 20).join(", ")}</Text>
          )}
        </Box>
      )}
    </Modal>
  );
}
