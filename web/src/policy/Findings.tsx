// What was found of a statement, each with the mend that settles it.
import { Box, chakra, Flex } from "@chakra-ui/react";
import { api, problem, queryClient, type Schemas } from "../api/client";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn } from "../marks/Controls";

type Props = { revision: number; line: number; findings: Schemas["FindingOut"][]; indent?: string };

export function Findings({ revision, line, findings, indent = "52px" }: Props) {
  const w = useWindow();
  const mend = api.useMutation("post", "/api/policy/mend");
  const run = async (kind: string) => {
    try {
      const out = await mend.mutateAsync({ params: { query: w }, body: { revision, line, kind } });
      say(out.consequences?.changed ? `${out.words}; ${out.consequences.changed} conversations change verdict` : out.words);
      await queryClient.invalidateQueries();
    } catch (e) {
      say(problem(e), "error");
    }
  };
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
          {f.mend && (
            <Btn flexShrink={0} onClick={() => void run(f.kind)}>
              {f.mend}
            </Btn>
          )}
        </Flex>
      ))}
    </Box>
  );
}
