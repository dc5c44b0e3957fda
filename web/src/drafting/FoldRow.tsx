// Proposals that say the same of several applications, as one row.
import { Flex, Text } from "@chakra-ui/react";
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
      px="17px"
      py="6px"
      gap="8px"
      align="center"
      wrap="wrap"
    >
      <Text flex="1" minW="180px">
        <Mark kind="permit" /> <b>{fold.shape}</b>, of {plural(fold.list.length, "application")}{" "}
        <Text as="span" color="soft" fontSize="12px">
          {n(conversations)} conversations, each within its own value
        </Text>
      </Text>
      <Btn onClick={takeAsOne}>Take as one rule…</Btn>
      <Btn onClick={take}>Take all {fold.list.length}…</Btn>
      <Btn onClick={open}>One by one</Btn>
    </Flex>
  );
}
