// Proposals that say the same of several applications, as one row.
import { Box, Flex, Text } from "@chakra-ui/react";
import { Btn } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { n, plural } from "../marks/words";
import type { Fold } from "./judge";

type Props = { fold: Fold; open: () => void; take: () => void; takeAsOne: () => void };

export function FoldRow({ fold, open, take, takeAsOne }: Props) {
  const conversations = fold.list.reduce((s, p) => s + p.open, 0);
  return (
    <Flex
      data-fold={fold.shape}
      borderBottomWidth="1px"
      borderColor="line2"
      pl="13px"
      pr="10px"
      py="1px"
      gap="8px"
      align="center"
    >
      <Box w="16px">
        <Mark kind="permit" />
      </Box>
      <Text flex="1" minW="0" truncate title={`${fold.shape}, each within its own value`}>
        <b>{fold.shape}</b>, of {plural(fold.list.length, "application")}
      </Text>
      <Btn h="22px" onClick={takeAsOne}>
        Take as one rule…
      </Btn>
      <Btn h="22px" onClick={take}>
        Take all {fold.list.length}…
      </Btn>
      <Btn h="22px" onClick={open}>
        One by one
      </Btn>
      <Text w="44px" textAlign="right">
        {n(conversations)}
      </Text>
    </Flex>
  );
}
