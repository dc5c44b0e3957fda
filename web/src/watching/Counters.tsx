// What becomes of connections just now, by pair of groups or by rule: the numbers move
// while one looks.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { useWhy } from "../frame/address";
import { Empty, Link, ProblemNote, Switches } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { n } from "../marks/words";

type Span = "minutes" | "hour" | "day";

export function Counters({ by }: { by: "pair" | "rule" }) {
  const [period, setPeriod] = useState<Span>("minutes");
  const [limit, setLimit] = useState(50);
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/watch/counters",
    { params: { query: { by, period, limit } } },
    { refetchInterval: 1000 }, // time passes also where nothing comes
  );
  const { show } = useWhy();
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  return (
    <Box>
      <Flex align="center" gap="10px" py="6px">
        <Text color="soft">Connections of the last</Text>
        <Switches
          label="time that is counted"
          options={[
            { value: "minutes", shown: "10 minutes" },
            { value: "hour", shown: "Hour" },
            { value: "day", shown: "Day" },
          ]}
          on={[period]}
          toggle={setPeriod}
        />
      </Flex>
      {data?.total === 0 && (
        <Empty title="No traffic in this time">Traffic from exporters is counted here as it arrives.</Empty>
      )}
      {data && data.total > 0 && (
        <chakra.table w="100%" css={{ "& td, & th": { padding: "3px 8px" } }}>
          <thead>
            <chakra.tr color="soft" fontSize="12px" textAlign="left">
              <chakra.th fontWeight="500">{by === "pair" ? "Who → what" : "Rule"}</chakra.th>
              {["carried", "uncovered", "held", "got through", "dropped though permitted"].map((h) => (
                <chakra.th key={h} fontWeight="500" textAlign="right" whiteSpace="nowrap">
                  {h}
                </chakra.th>
              ))}
              <chakra.th fontWeight="500">carried on this path</chakra.th>
              <chakra.th fontWeight="500">dropped on this path</chakra.th>
            </chakra.tr>
          </thead>
          <tbody>
            {data.counters.map((c) => {
              const name = by === "pair" ? `${c.who} → ${c.what}` : c.rule || "no rule";
              return (
                <chakra.tr
                  key={`${name} ${c.release}`}
                  borderTopWidth="1px"
                  borderColor="line2"
                  data-counter={name}
                  data-held={c.counts.held}
                  data-carried={c.counts.permitted + c.counts.uncovered}
                >
                  <chakra.td maxW="460px" truncate title={name}>
                    {by === "rule" && c.line ? (
                      <Link onClick={() => show({ kind: "rule", line: c.line! })}>
                        {c.line} {c.rule}
                      </Link>
                    ) : (
                      name
                    )}
                    {by === "rule" && c.release > 0 && <chakra.span color="soft"> release {c.release}</chakra.span>}
                  </chakra.td>
                  {[c.counts.permitted, c.counts.uncovered, c.counts.held, c.counts.leaks, c.counts.chokes].map(
                    (v, i) => (
                      <chakra.td
                        key={i}
                        textAlign="right"
                        fontVariantNumeric="tabular-nums"
                        color={v === 0 ? "soft" : i > 1 ? (i === 4 ? "permit" : "reject") : undefined}
                        fontWeight={v > 0 && i > 1 ? "600" : undefined}
                      >
                        {i === 3 && v > 0 && <Mark kind="leak" size={9} />}{" "}
                        {i === 4 && v > 0 && <Mark kind="choke" size={9} />} {n(v)}
                      </chakra.td>
                    ),
                  )}
                  <td>
                    <Spark values={c.carried} width={80} />
                  </td>
                  <td>
                    <Spark values={c.dropped} width={80} />
                  </td>
                </chakra.tr>
              );
            })}
          </tbody>
        </chakra.table>
      )}
      {data && data.total > data.counters.length && (
        <Link mt="8px" onClick={() => setLimit(limit + 200)}>
          {n(data.total - data.counters.length)} more
        </Link>
      )}
    </Box>
  );
}
