// What derivation proposes, to be judged one by one with the keyboard.
import { Box, chakra, Flex, Progress, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, queryClient, type Schemas } from "../api/client";
import { useKeys } from "../frame/keys";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { moveFocus } from "../ledger/shared";
import { Btn, Empty, Link } from "../marks/Controls";
import { n, percent, plural } from "../marks/words";
import { Aside } from "./Aside";
import { Curve } from "./Curve";
import { ProposalRow } from "./ProposalRow";

export function Proposals({ policy }: { policy: Schemas["PolicyOut"] }) {
  const w = useWindow();
  const list = api.useQuery("get", "/api/proposals", {}, { refetchInterval: (q) => (q.state.data?.job?.state === "running" ? 400 : false) });
  const derive = api.useMutation("post", "/api/derive");
  const take = api.useMutation("post", "/api/proposals/take");
  const refuse = api.useMutation("post", "/api/proposals/refuse");
  const cancel = api.useMutation("delete", "/api/jobs/{id}");
  const [at, setAt] = useState<string>();
  const [later, setLater] = useState<string[]>([]);
  const [refusing, setRefusing] = useState<string>();
  const d = list.data?.derived;
  const all = d?.proposals ?? [];
  const open = all.filter((p) => !p.refused);
  const judged = [...open.filter((p) => !later.includes(p.key)), ...open.filter((p) => later.includes(p.key))];
  const current = judged.find((p) => p.key === at) ?? judged[0];
  const running = list.data?.job?.state === "running" ? list.data.job : undefined;
  const next = () => {
    const i = judged.findIndex((p) => p.key === current?.key);
    setAt((judged[i + 1] ?? judged[i - 1])?.key);
  };
  const guard = async (f: () => Promise<unknown>, done?: string) => {
    try {
      await f();
      if (done) say(done);
    } catch (e) {
      say(problem(e), "error");
    }
    await queryClient.invalidateQueries();
  };
  const run = (balance: number) => guard(() => derive.mutateAsync({ params: { query: { ...w, balance } } }));
  const doTake = (p = current) => {
    if (!p) return;
    next();
    void guard(() => take.mutateAsync({ params: { query: w }, body: { texts: [p.text] } }), `Taken: ${p.key}`);
  };
  const doRefuse = (reason: string) => {
    if (!refusing) return;
    if (refusing === current?.key) next();
    void guard(() => refuse.mutateAsync({ body: { rule: refusing, reason } }), "Refused; it stays refused");
    setRefusing(undefined);
  };
  useKeys({
    t: () => doTake(),
    r: () => current && setRefusing(current.key),
    l: () => {
      if (!current) return;
      next();
      setLater([...later.filter((k) => k !== current.key), current.key]);
    },
  });
  const undecided = open.reduce((sum, p) => sum + p.conversations, 0);
  return (
    <Flex direction="column" borderLeftWidth="1px" borderColor="line" bg="sheet" minH="0" pt="12px" aria-label="proposals" role="region">
      <Flex px="16px" align="baseline" gap="10px">
        <Text fontFamily="heading" fontSize="17px">
          {d ? plural(open.length, "proposal") : "Proposals"}
        </Text>
        {d && <Text color="soft">{plural(undecided, "conversation")} to judge</Text>}
        <Btn ml="auto" onClick={() => void run(d?.balance ?? 0.5)} loading={!!running} primary={!d}>
          {d ? "Derive again" : "Derive from the window"}
        </Btn>
      </Flex>
      {running && (
        <Flex px="16px" gap="10px" align="center" mt="6px" role="status">
          <Progress.Root value={running.done * 100} size="xs" flex="1">
            <Progress.Track>
              <Progress.Range bg="accent" />
            </Progress.Track>
          </Progress.Root>
          <Link onClick={() => void guard(() => cancel.mutateAsync({ params: { path: { id: running.id } } }), "Cancelled")}>cancel</Link>
        </Flex>
      )}
      {list.data?.job?.state === "failed" && <Text px="16px" color="reject">The last derivation failed: {list.data.job.message}</Text>}
      {d && d.curve.length > 1 && <Curve curve={d.curve} balance={d.balance} choose={(b) => void run(b)} />}
      {list.data?.stale && open.length > 0 && (
        <Text px="16px" color="soft" fontSize="12px">
          The draft has changed since revision {d!.revision}; what it took is gone from the list.
        </Text>
      )}
      <Box overflowY="auto" flex="1" minH="0" mt="6px" onKeyDown={moveFocus}>
        {judged.map((p) => (
          <ProposalRow
            key={p.key}
            p={p}
            current={p === current}
            later={later.includes(p.key)}
            refusing={refusing === p.key}
            choose={() => setAt(p.key)}
            take={() => doTake(p)}
            askRefuse={() => setRefusing(p.key)}
            refuse={doRefuse}
            cancelRefuse={() => setRefusing(undefined)}
          />
        ))}
        {!d && !running && (
          <Empty title="Nothing derived yet">
            {policy.counts.uncovered > 0
              ? `${plural(policy.counts.uncovered, "conversation")} of the window have no rule. Derivation proposes rules for what is usual, and sets aside what you should not be asked to bless.`
              : "Every conversation of the window is decided."}
          </Empty>
        )}
        {d && open.length === 0 && (
          <Empty title="All judged">
            {d.considered > 0 ? `Of ${plural(d.considered, "conversation")} looked at, ${percent(d.covered / d.considered)} found a proposal; the others were set aside.` : "There was nothing to propose."}
          </Empty>
        )}
        {d && <Aside list={d.aside} />}
        {all.length > open.length && (
          <Box px="16px" py="8px" color="soft">
            <Text>{n(all.length - open.length)} refused</Text>
            {all
              .filter((p) => p.refused)
              .map((p) => (
                <Flex key={p.key} gap="8px">
                  <Text truncate>{p.key}</Text>
                  <Text flexShrink={0}>“{p.refused!.reason || "no reason given"}”</Text>
                  <Link ml="auto" flexShrink={0} onClick={() => void guard(() => refuse.mutateAsync({ body: { rule: p.key, reason: "", again: true } }), "To be judged again")}>
                    judge again
                  </Link>
                </Flex>
              ))}
          </Box>
        )}
      </Box>
      <chakra.div px="16px" py="5px" borderTopWidth="1px" borderColor="line2" color="soft" fontSize="11.5px">
        T takes · R refuses · L later · arrows move · Ctrl Z undoes
      </chakra.div>
    </Flex>
  );
}
