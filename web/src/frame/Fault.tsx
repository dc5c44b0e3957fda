import { Box, Text } from "@chakra-ui/react";
import { useRouteError } from "react-router";
import { Btn, ProblemNote } from "../marks/Controls";

/** What is shown when the interface itself has a fault. */
export function Fault() {
  const error = useRouteError();
  return (
    <Box p="40px" maxW="640px">
      <Text fontFamily="heading" fontSize="21px">
        This page failed.
      </Text>
      <Text mt="6px">
        Your saved work is safe on the server. Load the page again. If it fails again, report what you did just before.
      </Text>
      <ProblemNote>{error instanceof Error ? error.message : String(error)}</ProblemNote>
      <Btn primary onClick={() => location.reload()}>
        Reload
      </Btn>
    </Box>
  );
}
