import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Kbd, Switches } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { setTheme, theme, type Theme } from "./theme";

const keys: [string, string][] = [
  ["Ctrl K  or  /", "ask a question or find anything"],
  ["Alt 1 … 7", "go to Workloads, Groups, Flows, Policy, Check, Release, Watch"],
  ["Tab, Enter", "skip to the view, or to its first row"],
  ["Ctrl Z", "undo the last edit of the draft, tags, proposals or probes"],
  ["Ctrl Shift Z", "redo"],
  ["↑ ↓", "move in a list"],
  ["→ ←", "expand or collapse a row"],
  ["Home End", "go to the first or last visible row"],
  ["Enter", "open the selected row; explain its verdict"],
  ["Space", "select a row of workloads or of the ledger"],
  ["P  X  R", "Check: permit, reject, or mark as rightly rejected"],
  ["E  S", "Watch: mark a matter as seen, or settle it"],
  ["T  N  W  R  L", "proposals: take, narrow, widen, refuse, later"],
  ["Ctrl ↑ ↓", "Policy: move the selected rule"],
  ["Ctrl Enter", "dialogs: confirm; policy text: save"],
  ["Esc", "close the panel or dialog"],
  ["?", "this list"],
];

export function KeysDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [current, setCurrent] = useState<Theme>(theme());
  return (
    <Modal title="Keys" open={open} onClose={onClose} size="sm">
      {keys.map(([key, what]) => (
        <Flex key={key} py="4px" gap="14px" borderBottomWidth="1px" borderColor="line2">
          <Box w="120px" flexShrink={0}>
            <Kbd>{key}</Kbd>
          </Box>
          <Text>{what}</Text>
        </Flex>
      ))}
      <Flex mt="14px" gap="12px" align="center">
        <Text>Appearance</Text>
        <Switches
          label="appearance"
          options={(["system", "light", "dark"] as Theme[]).map((t) => ({ value: t, shown: t }))}
          on={[current]}
          toggle={(t) => {
            setTheme(t);
            setCurrent(t);
          }}
        />
      </Flex>
    </Modal>
  );
}
