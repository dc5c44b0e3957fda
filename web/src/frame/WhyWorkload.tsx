import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { Link, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { onDay } from "../marks/words";
import { useCarried } from "./address";
import { Reasons } from "./Reasons";
import { Pair, WhyTitle } from "./WhyPanel";

/** A workload: its addresses, its tags with their sources, its groups and why. */
export function WhyWorkload({ id }: { id: string }) {
  const { data: w, error } = api.useQuery("get", "/api/workloads/{id}", { params: { path: { id } } });
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
      {w.tags.map((t) => (
        <Pair key={t.key} left={t.key}>
          {t.value}{" "}
          <chakra.span color="soft">
            {t.byHand ? `by hand, ${t.by}` : t.source}, {onDay(t.at)}
          </chakra.span>
        </Pair>
      ))}
      {w.tags.length === 0 && <Text color="soft">none</Text>}
      <Text fontFamily="heading" mt="12px" mb="2px">
        Groups
      </Text>
      {w.groups.map((g) => (
        <Box key={g.group} py="3px">
          <Flex gap="6px" align="center">
            <Mark kind={g.truth === "yes" ? "in" : "undecided"} />
            <Link onClick={() => void navigate(`/groups/${encodeURIComponent(g.group)}${carried}`)}>{g.group}</Link>
            {g.truth === "undecided" && <chakra.span color="open">{g.missing?.map((k) => `${k} missing`).join(", ") || "undecided"}</chakra.span>}
          </Flex>
          {g.listed ? <Text color="soft">listed after {g.listed}</Text> : <Reasons reasons={g.reasons} />}
        </Box>
      ))}
      {w.groups.length === 0 && <Text color="soft">none says yes</Text>}
      <Flex gap="14px" mt="12px" wrap="wrap">
        <Link fontWeight="600" onClick={() => void navigate(`/workloads/${encodeURIComponent(id)}${carried}`)}>
          Its page
        </Link>
        <Link onClick={() => void navigate(`/flows${carried}${and}q=${encodeURIComponent(w.name)}`)}>Who reaches it</Link>
        <Link onClick={() => void navigate(`/flows${carried}${and}turn=reaches&q=${encodeURIComponent(w.name)}`)}>What it reaches</Link>
      </Flex>
    </Box>
  );
}
