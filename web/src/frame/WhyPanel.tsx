// The why panel: says what is selected as a chain, down to the tag that caused it.
import { Box, CloseButton } from "@chakra-ui/react";
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
