import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Kbd, Switches } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { setTheme, theme, type Theme } from "./theme";

const keys: [string, string][] = [
  ["Ctrl K  or  /", "ask a question or find anything"],
  ["Alt 1 … 5", "go to Workloads, Groups, Flows, Policy, Check"],
  ["Tab, Enter", "skip to the view, or to its first row"],
  ["Ctrl Z", "undo the last edit: of the draft, tags, proposals and probes"],
  ["Ctrl Shift Z", "do it again"],
  ["↑ ↓", "move in a list"],
  ["→ ←", "unfold and fold a row"],
  ["Home End", "to the first and last row in sight"],
  ["Enter", "open what is selected; say why"],
  ["Space", "select a row: of workloads, or of the ledger to settle several"],
  ["P  X  R", "check: permit, reject, or say that it is rightly rejected"],
  ["E  S", "watch: a matter is seen, or settled"],
  ["T  N  W  R  L", "proposals: take, narrow, widen, refuse, later"],
  ["Ctrl ↑ ↓", "policy: move the selected rule"],
  ["Ctrl Enter", "dialogs: do it; the policy text: save it"],
  ["Esc", "close the why panel or a dialog"],
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
        <Text>Looks</Text>
        <Switches
          label="looks"
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
