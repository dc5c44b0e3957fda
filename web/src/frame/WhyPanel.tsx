// The why panel: says what is selected as a chain, down to the tag that caused it.
import { Box, chakra, CloseButton, Flex, Text } from "@chakra-ui/react";
import { useWhy, type Subject } from "./address";
import { useKeys } from "./keys";
import { WhyFlow } from "./WhyFlow";
import { WhyRule } from "./WhyRule";
import { WhyWorkload } from "./WhyWorkload";

export function WhyPanel({ subject }: { subject: Subject }) {
  const { show } = useWhy();
  useKeys({ Escape: () => show(undefined) });
  return (
    <Box
      as="aside"
      aria-label="why"
      borderLeftWidth="1px"
      borderColor="line"
      bg="sheet"
      fontSize="12.5px"
      overflowY="auto"
      position={{ base: "fixed", md: "relative" }}
      top={{ base: "0", md: "auto" }}
      bottom={{ base: "0", md: "auto" }}
      right={{ base: "0", md: "auto" }}
      w={{ base: "min(420px, 94vw)", md: "auto" }}
      zIndex={{ base: 5, md: "auto" }}
    >
      <CloseButton
        size="2xs"
        position="absolute"
        right="8px"
        top="10px"
        onClick={() => show(undefined)}
        aria-label="close the why panel"
      />
      <Box px="16px" py="14px">
        {subject.kind === "flow" && <WhyFlow subject={subject} />}
        {subject.kind === "workload" && <WhyWorkload id={subject.id} />}
        {subject.kind === "rule" && <WhyRule line={subject.line} />}
      </Box>
    </Box>
  );
}

export function WhyTitle({ children }: { children: React.ReactNode }) {
  return (
    <Text as="h2" fontFamily="heading" fontWeight="500" fontSize="15px" mb="8px" pr="20px">
      {children}
    </Text>
  );
}

/** The links of a chain, one under the other. */
export function Chain({ children }: { children: React.ReactNode }) {
  return (
    <Box borderLeftWidth="2px" borderColor="line" ml="5px" pl="14px" mt="8px">
      {children}
    </Box>
  );
}

export function ChainLink({ children, open }: { children: React.ReactNode; open?: boolean }) {
  return (
    <Box position="relative" py="5px" data-chain>
      <chakra.span
        position="absolute"
        left="-19.5px"
        top="10px"
        w="9px"
        h="9px"
        borderRadius="full"
        bg={open ? "openTint" : "sheet"}
        borderWidth="2px"
        borderColor={open ? "open" : "line"}
      />
      {children}
    </Box>
  );
}

export function Pair({ left, children }: { left: string; children: React.ReactNode }) {
  return (
    <Flex gap="10px" py="2px">
      <Text color="soft" w="76px" flexShrink={0}>
        {left}
      </Text>
      <Box minW="0">{children}</Box>
    </Flex>
  );
}
