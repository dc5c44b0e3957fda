// One enforcement point: what it guards and runs, what its rules counted, what happened,
// and the orders it can be given.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Link, ProblemNote, Select } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { atSecond, n, plural } from "../marks/words";
import { type Order, useOrder } from "./useOrder";
import { modeOf, type Point, readBack, type Release, runs, stateOf, troubled } from "./waves";

export function PointDialog({ p, releases, close }: { p: Point; releases: Release[]; close: () => void }) {
  const order = useOrder();
  const drop = api.useMutation("delete", "/api/v1/points/{name}");
  const events = api.useQuery("get", "/api/v1/points/{name}/history", {
    params: { path: { name: p.name }, query: { limit: 60 } },
  });
  const [plan, setPlan] = useState(false);
  const [sure, setSure] = useState(false);
  const [refused, setRefused] = useState("");
  const send = (does: Order["do"], release: number, more: Partial<Order> = {}) => {
    setRefused("");
    const done = release ? `${p.name}: ${does} release ${release}` : `${p.name} no longer runs a release`;
    void order.send({ do: does, release: release || undefined, points: [p.name], ...more }, done, (words) =>
      does === "enforce" ? setRefused(words) : say(words, "error"),
    );
  };
  const forget = async () => {
    try {
      await drop.mutateAsync({ params: { path: { name: p.name }, query: { anyway: true } } });
      say(`${p.name} is deleted; its table stays loaded on the machine until somebody removes it`);
      close();
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  const bad = troubled([p]).length > 0;
  return (
    <Modal
      title={p.name}
      open
      onClose={close}
      size="xl"
      footer={
        <>
          {p.observes > 0 && (
            <Btn primary onClick={() => send("enforce", p.observes, refused ? { anyway: true, without: ["*"] } : {})}>
              {refused ? "Enforce anyway" : `Enforce release ${p.observes}`}
            </Btn>
          )}
          {releases
            .filter((r) => modeOf(p, r.no) === "off" && r.no > p.enforces)
            .slice(0, 3)
            .map((r) => (
              <Btn key={r.no} onClick={() => send("observe", r.no)}>
                Observe release {r.no}
              </Btn>
            ))}
          {releases
            .filter((r) => r.no < Math.max(p.enforces, p.observes))
            .slice(0, 2)
            .map((r) => (
              <Btn key={r.no} onClick={() => send("roll back", r.no)}>
                Roll back to {r.no}
              </Btn>
            ))}
          {(p.enforces > 0 || p.observes > 0) && (
            <Btn onClick={() => send("off", 0)} title="All traffic is then carried">
              Off
            </Btn>
          )}
          <Btn onClick={() => (sure ? void forget() : setSure(true))}>
            {sure
              ? p.held?.enforces
                ? "It still enforces: delete it anyway"
                : "Really delete it"
              : "Delete this point…"}
          </Btn>
          <Btn onClick={close}>Close</Btn>
        </>
      }
    >
      <Text>
        A {p.kind} that guards {plural(p.workloads, "workload")} as {p.side === "both" ? "server and client" : p.side}:{" "}
        <chakra.code fontFamily="mono" fontSize="12px">
          {p.guards}
        </chakra.code>
        {p.undecided > 0 && `; ${plural(p.undecided, "workload")} undecided, so not guarded`}
      </Text>
      <Text mt="4px" color={bad ? "reject" : undefined} fontWeight={bad ? "600" : undefined} data-holds={p.state}>
        It {stateOf(p)}
        {readBack(p) && `; ${readBack(p)}`}
        {p.heard && `; ${p.kind === "file" ? "it fetched, or was compared," : "last contact"} ${atSecond(p.heard)}`}
        {p.held?.estate ? `, with version ${n(p.held.estate)} of the estate` : ""}.
      </Text>
      {(p.problem || p.held?.words) && <ProblemNote>{p.problem ?? p.held?.words}</ProblemNote>}
      {p.held?.unlisted && p.held.unlisted.length > 0 && (
        <ProblemNote>
          The inventory lacks {p.held.unlisted.join(", ")}: no rule applies there, so all traffic reaches it. Add the
          address to the workload.
        </ProblemNote>
      )}
      {p.otherFrom && (
        <ProblemNote>
          Its token was used from {p.from} and from {p.otherFrom} within the last hour. If only one agent should run,
          replace the token.
        </ProblemNote>
      )}
      {refused && <ProblemNote>{refused}</ProblemNote>}
      {p.state === "ahead" && <Follow p={p} />}
      {p.kind !== "file" && ["drifted", "refused", "went back"].includes(p.state) && <Again p={p} />}
      <Flex gap="22px" mt="10px" align="flex-start">
        <Box flex="1" minW="0">
          <Text fontWeight="600">New conversations by rule</Text>
          {!p.held?.lines?.length && <Text color="soft">No counts yet.</Text>}
          <OnRecord p={p} />
          <Box maxH="30vh" overflowY="auto">
            {[...new Set(p.held?.lines?.map((l) => l.release))].map((release) => (
              <Counted key={release} p={p} release={release} releases={releases} />
            ))}
          </Box>
        </Box>
        <Box flex="1" minW="0">
          <Text fontWeight="600">What happened</Text>
          <Box maxH="30vh" overflowY="auto">
            {events.data?.length === 0 && <Text color="soft">No events yet.</Text>}
            {events.data?.map((e) => (
              <Text key={e.at + e.what} py="2px" borderBottomWidth="1px" borderColor="line2">
                <chakra.span color="soft">{atSecond(e.at)}</chakra.span> {e.what}: {e.words}
              </Text>
            ))}
          </Box>
        </Box>
      </Flex>
      {p.kind === "file" ? <Running p={p} /> : <Token p={p} />}
      <Link mt="10px" onClick={() => setPlan(!plan)}>
        {plan ? "Hide the plan" : "Show the plan as nftables"}
      </Link>
      {plan && <Plan name={p.name} />}
    </Modal>
  );
}

/** What the rules of one release counted, with their sentences as that release has them. */
function Counted({ p, release, releases }: { p: Point; release: number; releases: Release[] }) {
  const revision = releases.find((r) => r.no === release)?.revision ?? 0;
  const policy = api.useQuery(
    "get",
    "/api/v1/policy/revisions/{no}",
    { params: { path: { no: revision } } },
    { enabled: revision > 0, staleTime: Infinity },
  );
  const text = policy.data?.text.split("\n");
  return (
    <Box mb="6px" data-counted={release}>
      <Text color="soft" fontSize="12px">
        Release {release}, {p.held?.enforces === release ? "enforced" : "observed"}
      </Text>
      {p.held?.lines
        ?.filter((l) => l.release === release)
        .map((l) => (
          <Flex key={`${l.line} ${l.verdict}`} gap="8px" py="2px" borderBottomWidth="1px" borderColor="line2">
            <Mark kind={l.verdict} size={9} />
            <Text flex="1" minW="0" truncate title={text?.[l.line - 1]}>
              {l.line ? (text?.[l.line - 1] ?? `line ${l.line}`) : "no rule"}
            </Text>
            <Text fontVariantNumeric="tabular-nums">{n(l.packets)}</Text>
          </Flex>
        ))}
    </Box>
  );
}

/** A point that took an order which this server does not have waits for a person. */
function Follow({ p }: { p: Point }) {
  const follow = api.useMutation("post", "/api/v1/points/{name}/follow");
  return (
    <Btn
      mt="6px"
      primary
      loading={follow.isPending}
      onClick={async () => {
        try {
          await follow.mutateAsync({ params: { path: { name: p.name } } });
          say(`${p.name} follows this server again`);
        } catch (e) {
          say(problem(e), "error");
        }
        await caughtUp();
      }}
    >
      Let it follow this server: {runs(p)}
    </Btn>
  );
}

/** Replaces the token; the former one is valid until the new one is used. */
function Token({ p }: { p: Point }) {
  const rotate = api.useMutation("post", "/api/v1/points/{name}/token");
  return (
    <Box mt="10px">
      <Link
        onClick={async () => {
          try {
            await rotate.mutateAsync({ params: { path: { name: p.name } } });
          } catch (e) {
            say(problem(e), "error");
          }
          await caughtUp();
        }}
      >
        Replace its token…
      </Link>
      {rotate.data && (
        <Text mt="4px">
          Put this into the token file of the agent, and restart the agent. It is shown once. The old token stays valid
          until this one is used.
          <chakra.code display="block" fontFamily="mono" data-token>
            {rotate.data.token}
          </chakra.code>
        </Text>
      )}
    </Box>
  );
}

/** How many of the last minute's rejected and uncovered attempts are on record one by one, where not all are. */
function OnRecord({ p }: { p: Point }) {
  const l = p.held?.lately;
  const counted = l ? l.reject + l.uncovered : 0;
  if (p.kind === "file" || !l || counted < 20 || l.reported >= 0.9 * counted) return null;
  return (
    <Text color="soft">
      Of {n(counted)} in the last minute that were rejected or uncovered, {n(l.reported)} are recorded one by one; the
      rest came too fast. The counts include all.
    </Text>
  );
}

/** Told the same again, a point restores what was changed by hand, and tries what it refused. */
function Again({ p }: { p: Point }) {
  const again = api.useMutation("post", "/api/v1/points/{name}/again");
  return (
    <Btn
      mt="6px"
      primary
      loading={again.isPending}
      onClick={async () => {
        try {
          await again.mutateAsync({ params: { path: { name: p.name } } });
          say(`${p.name} loads its plan again`);
        } catch (e) {
          say(problem(e), "error");
        }
        await caughtUp();
      }}
    >
      {p.state === "drifted" ? "Restore its plan" : "Try again"}
    </Btn>
  );
}

function Plan({ name }: { name: string }) {
  const { data, error } = api.useQuery("get", "/api/v1/points/{name}/plan", { params: { path: { name } } });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  return (
    <chakra.textarea
      readOnly
      aria-label="the plan"
      rows={14}
      w="100%"
      fontFamily="mono"
      fontSize="11.5px"
      bg="paper"
      borderWidth="1px"
      borderColor="line2"
      p="8px"
      mt="4px"
      value={data?.script ?? "…"}
    />
  );
}

/** What a device holds, as it says itself, beside what it is to hold. */
function Running({ p }: { p: Point }) {
  const compare = api.useMutation("post", "/api/v1/points/{name}/running");
  const [text, setText] = useState("");
  const [format, setFormat] = useState<"nft" | "acl" | "k8s" | "json">("nft");
  const found = compare.data;
  return (
    <Box mt="10px">
      <Text fontWeight="600">What the device runs</Text>
      <chakra.textarea
        aria-label="what the device runs"
        placeholder="Paste the running configuration of the device to compare it"
        rows={4}
        w="100%"
        fontFamily="mono"
        fontSize="11.5px"
        bg="paper"
        borderWidth="1px"
        borderColor="line2"
        p="8px"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <Flex gap="8px" align="center" mt="4px">
        <Select
          aria-label="format"
          value={format}
          onChange={(e) => setFormat(e.target.value as "nft" | "acl" | "k8s" | "json")}
        >
          <option value="nft">nftables</option>
          <option value="acl">RFC 8519</option>
          <option value="k8s">NetworkPolicy</option>
          <option value="json">the plan</option>
        </Select>
        <Btn
          loading={compare.isPending}
          disabled={!text.trim()}
          onClick={async () => {
            try {
              await compare.mutateAsync({ params: { path: { name: p.name } }, body: { text, format } });
            } catch (e) {
              say(problem(e), "error");
            }
            await caughtUp();
          }}
        >
          Compare
        </Btn>
        {found && (
          <Text data-same={found.same}>
            {found.same
              ? "It matches the plan."
              : `${plural(found.missing.length, "line")} missing, ${plural(found.extra.length, "line")} that should not be there.`}
          </Text>
        )}
      </Flex>
      {found && !found.same && (
        <Box fontFamily="mono" fontSize="11.5px" maxH="20vh" overflowY="auto" mt="4px">
          {found.missing.map((l) => (
            <Text key={`-${l}`}>− {l}</Text>
          ))}
          {found.extra.map((l) => (
            <Text key={`+${l}`}>+ {l}</Text>
          ))}
        </Box>
      )}
    </Box>
  );
}
