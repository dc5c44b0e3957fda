// One enforcement point: what it guards and holds, what its rules counted, what happened,
// and what can be told it.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Link, ProblemNote, Select } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { atSecond, n, plural } from "../marks/words";
import { holds, type Point, type Release, troubled } from "./waves";

export function PointDialog({ p, releases, close }: { p: Point; releases: Release[]; close: () => void }) {
  const w = useWindow();
  const aim = api.useMutation("post", "/api/v1/rollout/aim");
  const drop = api.useMutation("delete", "/api/v1/points/{name}");
  const events = api.useQuery("get", "/api/v1/points/{name}/history", {
    params: { path: { name: p.name }, query: { limit: 60 } },
  });
  const policy = api.useQuery("get", "/api/v1/policy", { params: { query: w } });
  const [plan, setPlan] = useState(false);
  const [sure, setSure] = useState(false);
  const [waits, setWaits] = useState("");
  const tell = async (release: number, mode: "off" | "observe" | "enforce", anyway = false) => {
    setWaits("");
    try {
      await aim.mutateAsync({ body: { points: [p.name], release, mode, anyway } });
      say(release ? `${p.name} is told to ${mode} release ${release}` : `${p.name} is told to hold nothing`);
    } catch (e) {
      if (mode === "enforce" && !anyway) setWaits(problem(e));
      else say(problem(e), "error");
    }
    await caughtUp();
  };
  const forget = async () => {
    try {
      await drop.mutateAsync({ params: { path: { name: p.name } } });
      say(`${p.name} is forgotten; what it holds stays there until it is unloaded`);
      close();
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  const revision = releases.find((r) => r.no === p.held?.release)?.revision;
  const sentences =
    revision === policy.data?.revision
      ? new Map(policy.data?.statements.map((s) => [s.line, s.rule?.sentence ?? s.text]))
      : new Map<number, string>();
  const bad = troubled([p]).length > 0;
  return (
    <Modal
      title={p.name}
      open
      onClose={close}
      size="xl"
      footer={
        <>
          {p.release && p.mode === "observe" && (
            <Btn primary onClick={() => void tell(p.release!, "enforce", waits !== "")}>
              {waits ? "Enforce all the same" : `Enforce release ${p.release}`}
            </Btn>
          )}
          {p.release && p.mode === "enforce" && (
            <Btn onClick={() => void tell(p.release!, "observe")}>Observe only</Btn>
          )}
          {releases
            .filter((r) => r.no !== p.release)
            .slice(0, 3)
            .map((r) => (
              <Btn key={r.no} onClick={() => void tell(r.no, "observe")}>
                Observe release {r.no}
              </Btn>
            ))}
          {p.release && <Btn onClick={() => void tell(0, "off")}>Hold nothing</Btn>}
          <Btn onClick={() => (sure ? void forget() : setSure(true))}>
            {sure ? "Really forget it" : "Forget this point…"}
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
        {p.undecided > 0 && `; ${plural(p.undecided, "workload")} it cannot tell, and does not guard`}
      </Text>
      <Text mt="4px" color={bad ? "reject" : undefined} fontWeight={bad ? "600" : undefined} data-holds={p.state}>
        It {holds(p)}
        {p.held?.mode && p.held.mode !== "off" && `, and ${p.held.mode}s`}
        {p.heard && `; ${p.kind === "file" ? "it fetched, or was compared," : "heard of"} ${atSecond(p.heard)}`}
        {p.held?.estate ? `, with version ${n(p.held.estate)} of the estate` : ""}.
      </Text>
      {(p.problem || p.held?.words) && <ProblemNote>{p.problem ?? p.held?.words}</ProblemNote>}
      {waits && <ProblemNote>{waits}</ProblemNote>}
      {p.kind !== "file" && ["drifted", "refused", "went back"].includes(p.state) && <Again p={p} />}
      <Flex gap="22px" mt="10px" align="flex-start">
        <Box flex="1" minW="0">
          <Text fontWeight="600">First packets of conversations, by rule</Text>
          {!p.held?.lines?.length && <Text color="soft">Nothing was counted yet.</Text>}
          <OnRecord p={p} />
          <Box maxH="30vh" overflowY="auto">
            {p.held?.lines?.map((l) => (
              <Flex key={`${l.line} ${l.verdict}`} gap="8px" py="2px" borderBottomWidth="1px" borderColor="line2">
                <Mark kind={l.verdict} size={9} />
                <Text flex="1" minW="0" truncate title={sentences.get(l.line)}>
                  {l.line ? (sentences.get(l.line) ?? `line ${l.line}`) : "no rule"}
                </Text>
                <Text fontVariantNumeric="tabular-nums">{n(l.packets)}</Text>
              </Flex>
            ))}
          </Box>
        </Box>
        <Box flex="1" minW="0">
          <Text fontWeight="600">What happened</Text>
          <Box maxH="30vh" overflowY="auto">
            {events.data?.length === 0 && <Text color="soft">Nothing yet.</Text>}
            {events.data?.map((e) => (
              <Text key={e.at + e.what} py="2px" borderBottomWidth="1px" borderColor="line2">
                <chakra.span color="soft">{atSecond(e.at)}</chakra.span> {e.what}: {e.words}
              </Text>
            ))}
          </Box>
        </Box>
      </Flex>
      {p.kind === "file" && <Running p={p} />}
      <Link mt="10px" onClick={() => setPlan(!plan)}>
        {plan ? "Hide the plan" : "Show the plan as nftables"}
      </Link>
      {plan && <Plan name={p.name} />}
    </Modal>
  );
}

/** How many of the last minute's rejected and uncovered attempts are on record one by one, where not all are. */
function OnRecord({ p }: { p: Point }) {
  const l = p.held?.lately;
  const counted = l ? l.reject + l.uncovered : 0;
  if (p.kind === "file" || !l || counted < 20 || l.reported >= 0.9 * counted) return null;
  return (
    <Text color="soft">
      Of {n(counted)} in the last minute that were rejected or uncovered, {n(l.reported)} are on record one by one: the
      others were too many at once. The counts have all.
    </Text>
  );
}

/** Told the same once more, a point puts back what was changed by hand, and tries what it refused. */
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
          say(`${p.name} is told once more`);
        } catch (e) {
          say(problem(e), "error");
        }
        await caughtUp();
      }}
    >
      {p.state === "drifted" ? "Put back what was released" : "Try again"}
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
      <Text fontWeight="600">What the device holds</Text>
      <chakra.textarea
        aria-label="what the device holds"
        placeholder="Paste what the device says that it holds, to compare it"
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
              ? "It is what the device is to hold."
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
