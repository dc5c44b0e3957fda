import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { useCarried, useWhy } from "../frame/address";
import { Link } from "../marks/Controls";
import { Mark } from "../marks/Marks";

type Assertion = Schemas["AssertOut"];
const look = { holds: ["permit", "permit"], open: ["uncovered", "open"], broken: ["reject", "reject"] } as const;

/** The assertions with their results; those that do not hold first. */
export function Assertions() {
  const { data } = api.useQuery("get", "/api/assertions");
  const navigate = useNavigate();
  const carried = useCarried();
  if (!data) return null;
  return (
    <Box py="6px" maxH="132px" overflowY="auto" flexShrink={0} aria-label="assertions" role="region">
      {data.length === 0 && (
        <Text color="soft">
          No assertions yet: say what must hold for all traffic, such as “assert never trial -&gt; live on any”,{" "}
          <Link onClick={() => void navigate(`/policy${carried}${carried ? "&" : "?"}text=1`)}>in the policy text</Link>.
        </Text>
      )}
      <Box display="grid" gridTemplateColumns="repeat(auto-fill, minmax(420px, 1fr))" columnGap="24px">
        {data.map((a) => (
          <One key={a.line} a={a} />
        ))}
      </Box>
    </Box>
  );
}

function One({ a }: { a: Assertion }) {
  const { show } = useWhy();
  const [mark, color] = look[a.result];
  return (
    <Flex gap="7px" align="baseline" py="1px" minW="0" data-assertion={a.result}>
      <Mark kind={mark} />
      <Text color={color} fontWeight="600" w="48px" flexShrink={0}>
        {a.result}
      </Text>
      <Text title={a.note || a.sentence} flexShrink={a.client ? 0 : 1} maxW="70%" truncate>
        {a.kind} <b>{a.left.join(", ")}</b> → <b>{a.right.join(", ")}</b> on {a.on}
        {a.clauses} {!a.client && <chakra.span color="soft">{a.note}</chakra.span>}
      </Text>
        {a.client && a.server && (
          <Link color="soft" minW="0" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" onClick={() => show({ kind: "flow", client: a.client!.addr, server: a.server!.addr, service: a.service! })}>
            {a.rule ? `line ${a.rule.line}` : "uncovered"}: {a.client.name} → {a.server.name} {a.service}
          </Link>
        )}
    </Flex>
  );
}
