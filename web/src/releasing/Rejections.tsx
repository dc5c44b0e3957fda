// What a wave that observes would reject of what runs today: each conversation with the
// rule that says so, and with what can be done about it from here.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, problem, type Schemas } from "../api/client";
import { useWhy, useWindow } from "../frame/address";
import { SettleHere, useSettling } from "../ledger/Settle";
import { Ledger } from "../ledger/Ledger";
import { Link, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { onDay, plural } from "../marks/words";
import { nameOf, type Wave } from "./waves";

type Rejection = Schemas["RejectionOut"];

/** Up to so many are shown as sentences; more as rows of the ledger. */
const few = 12;

export function Rejections({ wave, release }: { wave: Wave; release: number }) {
  const w = useWindow();
  const { data, error } = api.useQuery("get", "/api/v1/rollout/waves/{no}/rejected", {
    params: { path: { no: wave.no }, query: { ...w, limit: few + 1 } },
  });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data || data.length === 0) return null;
  return (
    <Box mt="14px" data-rejections={data.length}>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        What release {release} would reject in {wave.title ? nameOf(wave) : `wave ${wave.no}`}
      </Text>
      {data.length > few ? (
        <Flex direction="column" h="300px" borderWidth="1px" borderColor="line2" data-rejected-rows>
          <SettleHere query={{ wave: wave.no, asking: true }}>
            <Ledger
              query={{ wave: wave.no, asking: true }}
              empty={
                <Text p="12px">All of it is either rightly rejected or permitted by the draft: release the draft.</Text>
              }
            />
          </SettleHere>
        </Flex>
      ) : (
        <SettleHere query={{}}>
          {data.map((x) => (
            <Row key={[x.client.addr, x.server.addr, x.service, x.first].join(" ")} x={x} />
          ))}
        </SettleHere>
      )}
    </Box>
  );
}

function Row({ x }: { x: Rejection }) {
  const { show } = useWhy();
  const actions = useSettling({
    words: `${x.client.name} to ${x.server.name} on ${x.service}`,
    client: x.client.addr,
    server: x.server.addr,
    service: x.service,
    first: x.first,
    counts: { permit: 0, reject: 1, uncovered: 0 },
  });
  const why = () =>
    show({ kind: "flow", client: x.client.addr, server: x.server.addr, service: x.service, at: x.first });
  return (
    <Flex
      gap="10px"
      py="5px"
      borderBottomWidth="1px"
      borderColor="line2"
      align="baseline"
      data-rejection
      data-settled={x.settled}
      opacity={x.settled ? 0.75 : 1}
    >
      <Mark kind="reject" size={10} />
      <Box flex="1" minW="0">
        <Text truncate>
          <b>{x.client.name}</b> → <b>{x.server.name}</b> on{" "}
          <chakra.span fontFamily="mono" fontSize="12px">
            {x.service}
          </chakra.span>
        </Text>
        <Text color="soft" fontSize="12px" truncate title={x.sentence}>
          {plural(x.connections, "connection")}, last {onDay(x.last)} · line {x.line}: {x.sentence}
        </Text>
      </Box>
      <Link color="soft" onClick={why}>
        why
      </Link>
      {x.settled || x.verdict === "permit" ? (
        <Text color="soft" fontSize="12px">
          {x.settled ? "rightly rejected" : "the draft permits it: release it"}
        </Text>
      ) : (
        actions
          .filter((a) => a.how !== "reject")
          .map((a) => (
            <Link key={a.how} onClick={a.run}>
              {a.words}
            </Link>
          ))
      )}
    </Flex>
  );
}
