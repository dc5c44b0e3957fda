// One wave of a roll-out: its points, and what each holds.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { plural } from "../marks/words";
import { Link } from "../marks/Controls";
import { holds, lately, nameOf, type Point, troubled, unmet, type Wave } from "./waves";

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
  const share = wave.of.filter((p) => release && p.held?.release === release && p.state === "holds").length;
  return (
    <Box as="section" aria-label={`wave ${wave.no}`} w="212px" flexShrink={0} data-wave={wave.no} data-stage={stage}>
      <Flex justify="space-between" gap="6px">
        <Text fontWeight="600" truncate>
          {nameOf(wave)}
        </Text>
        <Link color="soft" fontSize="12px" onClick={ask} aria-label={`what wave ${wave.no} waits for`}>
          {waits ? `waits for ${waits}` : "waits…"}
        </Link>
      </Flex>
      <Box h="5px" bg="line2" my="4px" role="presentation">
        <Box
          h="5px"
          bg={stage === "enforces" ? "accent" : "open"}
          w={`${(100 * share) / wave.of.length}%`}
          transition="width .3s"
        />
      </Box>
      <Text color="soft" fontSize="12px" mb="6px">
        {release
          ? `${stage} · ${share} of ${plural(wave.of.length, "point")} hold${share === 1 ? "s" : ""} ${release}`
          : "no release yet"}
      </Text>
      {wave.of.map((p) => (
        <Card key={p.name} p={p} open={() => open(p)} />
      ))}
    </Box>
  );
}

function Card({ p, open }: { p: Point; open: () => void }) {
  const bad = troubled([p]).length > 0;
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
      <Flex justify="space-between" gap="6px" align="center" mt="3px">
        <Text fontSize="12px" color={bad ? "reject" : "soft"} fontWeight={bad ? "600" : "400"}>
          {holds(p)}
        </Text>
        <Text
          fontSize="11.5px"
          px="9px"
          borderRadius="full"
          borderWidth="1px"
          flexShrink={0}
          borderColor={p.held?.mode === "off" || !p.held ? "line" : "ink"}
          bg={p.held?.mode === "enforce" ? "ink" : undefined}
          color={p.held?.mode === "enforce" ? "paper" : p.held?.mode === "observe" ? "ink" : "soft"}
        >
          {p.held?.mode ?? "off"}
        </Text>
      </Flex>
      {(p.held?.words || p.problem) && (
        <Text fontSize="12px" color="reject" mt="3px">
          {p.problem ?? p.held?.words}
        </Text>
      )}
      {p.release && p.rejects > 0 && (
        <Text fontSize="12px" color="soft" mt="3px">
          rejects {plural(p.rejects, "conversation")} of today
        </Text>
      )}
      {lately(p) && (
        <Text fontSize="12px" color="soft" mt="3px" data-lately>
          {lately(p)}
        </Text>
      )}
    </chakra.button>
  );
}
