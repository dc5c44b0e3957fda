import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { Link, ProblemNote } from "../marks/Controls";
import { onDay } from "../marks/words";
import { useCarried } from "./address";
import { Memberships, Tags } from "./WorkloadParts";
import { Pair, WhyTitle } from "./WhyParts";

/** A workload: its addresses, its tags with their sources, its groups and why. */
export function WhyWorkload({ id }: { id: string }) {
  const { data: w, error } = api.useQuery("get", "/api/v1/workloads/{id}", { params: { path: { id } } });
  const navigate = useNavigate();
  const carried = useCarried();
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!w) return <Text color="soft">…</Text>;
  const and = carried ? "&" : "?";
  return (
    <Box>
      <WhyTitle>{w.name}</WhyTitle>
      {w.id !== w.name && <Pair left="id">{w.id}</Pair>}
      {(w.os || w.kind) && <Pair left="machine">{[w.kind, w.os].filter(Boolean).join(", ")}</Pair>}
      {w.leases.map((l) => (
        <Pair key={l.addr + l.from + l.until} left={l.now ? "address" : "had"}>
          <chakra.span fontFamily="mono" fontSize="12px">
            {l.addr}
          </chakra.span>
          {(l.from || l.until) && (
            <chakra.span color="soft">
              {" "}
              {l.from ? onDay(l.from) : "always"} – {l.until ? onDay(l.until) : "now"}
            </chakra.span>
          )}
        </Pair>
      ))}
      <Text fontFamily="heading" mt="12px" mb="2px">
        Tags
      </Text>
      <Tags tags={w.tags} />
      <Text fontFamily="heading" mt="12px" mb="2px">
        Groups
      </Text>
      <Memberships groups={w.groups} />
      <Flex gap="14px" mt="12px" wrap="wrap">
        <Link fontWeight="600" onClick={() => void navigate(`/workloads/${encodeURIComponent(id)}${carried}`)}>
          Its page
        </Link>
        <Link onClick={() => void navigate(`/flows${carried}${and}q=${encodeURIComponent(w.name)}`)}>
          Who reaches it
        </Link>
        <Link onClick={() => void navigate(`/flows${carried}${and}turn=reaches&q=${encodeURIComponent(w.name)}`)}>
          What it reaches
        </Link>
      </Flex>
    </Box>
  );
}
