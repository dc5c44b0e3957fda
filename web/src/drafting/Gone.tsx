// Rules of the draft that nothing in the window needed.
import { Box, Flex, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { useWhy } from "../frame/address";
import { Link } from "../marks/Controls";
import { plural } from "../marks/words";
import { useEdit } from "./useEdit";

export function Gone({ list, revision }: { list: Schemas["GoneRule"][]; revision: number }) {
  const { tryEdit, busy } = useEdit();
  const { show } = useWhy();
  if (list.length === 0) return null;
  return (
    <Box px="16px" py="8px" data-gone={list.length}>
      <Text fontFamily="heading" fontSize="14px">
        Without evidence
      </Text>
      <Text color="soft" fontSize="12px">
        {plural(list.length, "rule")} of the draft {list.length === 1 ? "has" : "have"} decided nothing in the window:
        what {list.length === 1 ? "it was" : "they were"} for may be gone, or comes once a month.
      </Text>
      {list.map((g) => (
        <Flex key={g.line} gap="8px" align="baseline">
          <Link onClick={() => show({ kind: "rule", line: g.line })} textDecoration="none" flex="1">
            {g.sentence}
          </Link>
          <Link flexShrink={0} disabled={busy} onClick={() => void tryEdit({ op: "remove", line: g.line, revision })}>
            remove
          </Link>
        </Flex>
      ))}
    </Box>
  );
}
