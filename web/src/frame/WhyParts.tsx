// What every answer of the why panel is made of.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";

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
