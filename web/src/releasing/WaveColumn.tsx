// One wave of a roll-out: its points, and the releases that each runs.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { plural } from "../marks/words";
import { Link } from "../marks/Controls";
import {
  enforcedBeside,
  lately,
  modeOf,
  nameOf,
  type Point,
  readBack,
  stateOf,
  troubled,
  unmet,
  type Wave,
} from "./waves";

export function WaveColumn({
  wave,
  release,
  open,
  ask,
}: {
  wave: Wave;
  release: number | undefined;
  open: (p: Point) => void;
  ask: () => void;
}) {
  const { stage } = wave;
  const waits = unmet(wave).length;
  const loaded = (mode: string) =>
    wave.of.filter((p) => p.state === "holds" && modeOf(p.held, release ?? 0) === mode).length;
  const enforced = loaded("enforce");
  const observed = loaded("observe");
  const former = enforcedBeside(wave.of, release ?? 0);
  return (
    <Box as="section" aria-label={`wave ${wave.no}`} w="212px" flexShrink={0} data-wave={wave.no} data-stage={stage}>
      <Flex justify="space-between" gap="6px">
        <Text fontWeight="600" truncate>
          {nameOf(wave)}
        </Text>
        <Link color="soft" fontSize="12px" onClick={ask} aria-label={`conditions of wave ${wave.no}`}>
          {waits ? `${plural(waits, "condition")} unmet` : "Conditions…"}
        </Link>
      </Flex>
      <Share of={wave.of.length} count={enforced} tone="accent" />
      {observed > 0 && <Share of={wave.of.length} count={observed} tone="open" />}
      <Text color="soft" fontSize="12px" mb="6px">
        {release ? progress(release, wave.of.length, enforced, observed, former) : "no release yet"}
      </Text>
      {wave.of.map((p) => (
        <Card key={p.name} p={p} open={() => open(p)} />
      ))}
    </Box>
  );
}

/** How far a release has come in a wave, and what is still enforced beside it. */
function progress(release: number, of: number, enforced: number, observed: number, former: number[]): string {
  const parts = [
    enforced && `${release} enforced at ${enforced} of ${of}`,
    observed && `${release} observed at ${observed} of ${of}`,
    former.length > 0 && `${former.join(", ")} stays enforced`,
  ].filter(Boolean);
  return parts.join(" · ") || `${release} has not started here`;
}

function Share({ count, of, tone }: { count: number; of: number; tone: string }) {
  return (
    <Box h="5px" bg="line2" my="4px" role="presentation">
      <Box h="5px" bg={tone} w={`${(100 * count) / of}%`} transition="width .3s" />
    </Box>
  );
}

/** One release at a point, and how it runs there. */
function Runs({ release, mode }: { release: number; mode: "enforces" | "observes" }) {
  return (
    <Text
      fontSize="11.5px"
      px="9px"
      borderRadius="full"
      borderWidth="1px"
      flexShrink={0}
      borderColor="ink"
      bg={mode === "enforces" ? "ink" : undefined}
      color={mode === "enforces" ? "paper" : "ink"}
      data-runs={`${mode} ${release}`}
    >
      {mode} {release}
    </Text>
  );
}

function Card({ p, open }: { p: Point; open: () => void }) {
  const bad = troubled([p]).length > 0;
  const read = readBack(p);
  return (
    <chakra.button
      type="button"
      data-row="0"
      data-point={p.name}
      data-state={p.state}
      onClick={open}
      display="block"
      w="100%"
      textAlign="left"
      cursor="pointer"
      borderWidth="1px"
      borderColor={bad ? "reject" : "line"}
      bg="sheet"
      px="9px"
      py="6px"
      mb="8px"
      _hover={{ borderColor: "accent" }}
    >
      <Flex justify="space-between" gap="6px" align="baseline">
        <Text fontWeight="600" truncate>
          {p.name}
        </Text>
        <Text color="soft" fontSize="12px" flexShrink={0}>
          {plural(p.workloads, "workload")}
        </Text>
      </Flex>
      <Flex gap="6px" align="center" mt="4px" wrap="wrap">
        {p.held?.enforces ? <Runs release={p.held.enforces} mode="enforces" /> : null}
        {p.held?.observes ? <Runs release={p.held.observes} mode="observes" /> : null}
        {p.state === "holds" && (p.held?.enforces || p.held?.observes) ? (
          <Text fontSize="11.5px" color="soft" ml="auto">
            {read.replace("read back", "read")}
          </Text>
        ) : (
          <Text fontSize="12px" color={bad ? "reject" : "soft"} fontWeight={bad ? "600" : "400"}>
            {p.held?.enforces || p.held?.observes ? p.state : stateOf(p)}
          </Text>
        )}
      </Flex>
      {(p.held?.words || p.problem) && (
        <Text fontSize="12px" color="reject" mt="3px">
          {p.problem ?? p.held?.words}
        </Text>
      )}
      {p.held?.unlisted && p.held.unlisted.length > 0 && (
        <Text fontSize="12px" color="reject" mt="3px">
          {plural(p.held.unlisted.length, "address", "addresses")} of the machine not in the inventory: open
        </Text>
      )}
      {(p.enforces || p.observes) && p.rejects > 0 ? (
        <Text fontSize="12px" color="soft" mt="3px">
          {p.observes ? `${p.observes} would reject` : "rejects"} {plural(p.rejects, "conversation")} of the window
        </Text>
      ) : null}
      {lately(p) && (
        <Text fontSize="12px" color="soft" mt="3px" data-lately>
          {lately(p)}
        </Text>
      )}
    </chakra.button>
  );
}
