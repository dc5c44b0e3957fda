// What was found of the policy, each with its reason and, where there is one, the
// mend.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { useCarried, useWindow } from "../frame/address";
import { Empty, Link } from "../marks/Controls";
import { plural } from "../marks/words";
import { FixButton } from "../drafting/FixButton";

export function FindingsList() {
  const w = useWindow();
  const carried = useCarried();
  const navigate = useNavigate();
  const { data: list } = api.useQuery("get", "/api/v1/findings", { params: { query: w } });
  if (!list) return null;
  const go = (f: Schemas["FoundAt"]) =>
    void navigate(
      f.group
        ? `/groups/${encodeURIComponent(f.group)}${carried}`
        : `/policy${carried}${carried ? "&" : "?"}line=${f.line}`,
    );
  const kinds = [...new Set(list.findings.map((f) => f.kind))];
  return (
    <Flex direction="column" minH="0" flex="1" mt="8px">
      <Flex color="soft" fontSize="12px" pb="4px" borderBottomWidth="1px" borderColor="line" gap="12px">
        <Text>
          {list.findings.length === 0
            ? ""
            : `${plural(list.findings.length, "finding")}: ${kinds.map((k) => `${list.findings.filter((f) => f.kind === k).length} ${k}`).join(", ")}`}
        </Text>
        <chakra.a
          ml="auto"
          href={`/api/v1/findings.csv?${new URLSearchParams(Object.entries(w).filter((e): e is [string, string] => !!e[1]))}`}
          download
          textDecoration="underline"
          textUnderlineOffset="3px"
        >
          Export CSV
        </chakra.a>
      </Flex>
      <Box overflowY="auto" flex="1" role="region" aria-label="findings">
        {list.findings.length === 0 && (
          <Empty title="No findings">No rule is shadowed, too wide or never hit, and no group is empty.</Empty>
        )}
        {list.findings.map((f) => (
          <Flex
            key={`${f.line} ${f.kind}`}
            gap="12px"
            rowGap="2px"
            py="5px"
            align="baseline"
            wrap={{ base: "wrap", md: "nowrap" }}
            borderBottomWidth="1px"
            borderColor="line2"
            data-finding={f.kind}
          >
            <Text color="open" fontWeight="500" w="140px" flexShrink={0}>
              {f.kind}
            </Text>
            <Link
              w="30%"
              flexShrink={0}
              overflow="hidden"
              textOverflow="ellipsis"
              whiteSpace="nowrap"
              title={f.text}
              onClick={() => go(f)}
            >
              {f.group ?? (f.text || "the policy")}
            </Link>
            <Text flex="1" minW={{ base: "200px", md: "0" }} color="soft">
              {f.words}
            </Text>
            <FixButton revision={list.revision} line={f.line} finding={f} about={f.group ?? f.text} />
          </Flex>
        ))}
      </Box>
    </Flex>
  );
}
