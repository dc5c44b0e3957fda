// What was found of a statement, each with the mend that settles it.
import { Box, chakra, Flex } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { FixButton } from "./FixButton";

type Props = { revision: number; line: number; findings: Schemas["FindingOut"][]; about: string; indent?: string };

export function Findings({ revision, line, findings, about, indent = "52px" }: Props) {
  return (
    <Box pl={indent} pb="4px" data-findings={findings.length}>
      {findings.map((f) => (
        <Flex key={f.kind} gap="8px" align="center" py="2px">
          <span>
            <chakra.span color="open" fontWeight="500">
              {f.kind}:
            </chakra.span>{" "}
            {f.words}
          </span>
          <FixButton revision={revision} line={line} finding={f} about={about} />
        </Flex>
      ))}
    </Box>
  );
}
