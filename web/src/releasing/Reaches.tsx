// What a release reaches: workloads by how they are guarded, rules by where points can
// apply them, and what is exempt.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, caughtUp, problem } from "../api/client";
import { useCarried, useWhy } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Link, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { n, onDay } from "../marks/words";
import type { RollOut } from "./waves";

export function Reaches({ r }: { r: RollOut }) {
  const navigate = useNavigate();
  const carried = useCarried();
  const c = r.coverage;
  const [open, setOpen] = useState(false);
  const [lines, setLines] = useState<{ words: string; of: number[] }>();
  const exemptions = api.useQuery("get", "/api/v1/exemptions", {});
  const first = exemptions.data?.find((e) => !e.over);
  const workloads = (side: string) => () => void navigate(`/workloads${carried}${carried ? "&" : "?"}guarded=${side}`);
  const rows: { count: number; words: string; more?: string; go?: () => void; key: string }[] = [
    { key: "both", count: c.both, words: "workloads guarded on both sides", go: workloads("both") },
    {
      key: "server",
      count: c.server,
      words: "only as servers",
      go: workloads("server"),
    },
    { key: "client", count: c.client, words: "only as clients", go: workloads("client") },
    { key: "none", count: c.none, words: "by no point", go: workloads("none") },
    {
      key: "exempt",
      count: c.exempt,
      words: "exempt, each with a reason and an end",
      more: first && `first ends ${onDay(first.ends)}`,
      go: () => setOpen(true),
    },
  ];
  if (r.releases.length > 0)
    rows.push(
      {
        key: "onServer",
        count: c.onServer.length,
        words: "rules applied only at their servers",
        go: () => setLines({ words: "Applied only at their servers", of: c.onServer }),
      },
      {
        key: "onClient",
        count: c.onClient.length,
        words: "only at their clients",
        go: () => setLines({ words: "Applied only at their clients", of: c.onClient }),
      },
      {
        key: "nowhere",
        count: c.nowhere.length,
        words: "rules that no point applies",
        go: () => setLines({ words: "Applied by no point", of: c.nowhere }),
      },
    );
  return (
    <Box data-reaches>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        Coverage
      </Text>
      {rows.map((x) => (
        <Flex key={x.key} gap="10px" py="4px" borderBottomWidth="1px" borderColor="line2">
          <Text w="48px" textAlign="right" fontWeight="600" fontVariantNumeric="tabular-nums">
            {n(x.count)}
          </Text>
          {x.count > 0 || x.key === "exempt" ? (
            <Link flex="1" textAlign="left" onClick={x.go} data-reach={x.key}>
              {x.words}
            </Link>
          ) : (
            <Text flex="1">{x.words}</Text>
          )}
          {x.more && (
            <Text color="soft" fontSize="12px">
              {x.more}
            </Text>
          )}
        </Flex>
      ))}
      {open && <Exemptions close={() => setOpen(false)} />}
      {lines && <Lines title={lines.words} of={lines.of} close={() => setLines(undefined)} />}
    </Box>
  );
}

/** Rules by their lines; each opens what it means. */
function Lines({ title, of, close }: { title: string; of: number[]; close: () => void }) {
  const { data } = api.useQuery("get", "/api/v1/policy", { params: { query: {} } });
  const { show } = useWhy();
  const sentences = new Map(data?.statements.map((s) => [s.line, s.rule?.sentence ?? s.text]));
  return (
    <Modal title={title} open onClose={close} size="lg" footer={<Btn onClick={close}>Close</Btn>}>
      <Box maxH="50vh" overflowY="auto">
        {of.map((line) => (
          <Flex key={line} gap="10px" py="3px" borderBottomWidth="1px" borderColor="line2">
            <Text color="soft" w="60px" flexShrink={0}>
              line {line}
            </Text>
            <Link
              textAlign="left"
              onClick={() => {
                close();
                show({ kind: "rule", line });
              }}
            >
              {sentences.get(line) ?? `line ${line}`}
            </Link>
          </Flex>
        ))}
      </Box>
    </Modal>
  );
}

/** What no point guards, why, who answers for it, and until when. */
function Exemptions({ close }: { close: () => void }) {
  const { data, error } = api.useQuery("get", "/api/v1/exemptions", {});
  const end = api.useMutation("delete", "/api/v1/exemptions/{id}");
  const navigate = useNavigate();
  const carried = useCarried();
  return (
    <Modal title="Exempt workloads" open onClose={close} size="lg" footer={<Btn onClick={close}>Close</Btn>}>
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {data?.length === 0 && <Text color="soft">None. To exempt a machine, open its page.</Text>}
      {data?.map((e) => (
        <Flex
          key={e.workload}
          gap="10px"
          py="4px"
          borderBottomWidth="1px"
          borderColor="line2"
          data-exemption={e.workload}
        >
          <Box flex="1" minW="0">
            <Link fontWeight="600" onClick={() => void navigate(`/workloads/${e.workload}${carried}`)}>
              {e.name}
            </Link>
            <Text color="soft" fontSize="12px">
              {e.reason} · {e.owner} answers for it ·{" "}
              <chakra.span color={e.over ? "reject" : undefined}>
                {e.over ? "ended" : "until"} {onDay(e.ends)}
              </chakra.span>
            </Text>
          </Box>
          <Link
            color="soft"
            onClick={async () => {
              try {
                await end.mutateAsync({ params: { path: { id: e.workload } } });
                say(`Points guard ${e.name} again`);
              } catch (x) {
                say(problem(x), "error");
              }
              await caughtUp();
            }}
          >
            end it
          </Link>
        </Flex>
      ))}
    </Modal>
  );
}
