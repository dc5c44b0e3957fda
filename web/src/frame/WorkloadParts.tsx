// What is known of a workload, as the why panel and its page show it.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import type { Schemas } from "../api/client";
import { Link } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { onDay } from "../marks/words";
import { useCarried } from "./address";
import { Reasons } from "./Reasons";
import { Pair } from "./WhyParts";

type Page = Schemas["WorkloadPage"];

export function Tags({ tags }: { tags: Page["tags"] }) {
  if (tags.length === 0) return <Text color="soft">none</Text>;
  return tags.map((t) => (
    <Pair key={t.key} left={t.key}>
      {t.value}{" "}
      <chakra.span color="soft" fontSize="12px">
        {t.byHand ? `by hand, ${t.by}` : t.source}, {onDay(t.at)}
      </chakra.span>
    </Pair>
  ));
}

/** The groups that hold it, or cannot tell, and why. */
export function Memberships({ groups }: { groups: Page["groups"] }) {
  const navigate = useNavigate();
  const carried = useCarried();
  if (groups.length === 0) return <Text color="soft">in no group</Text>;
  return groups.map((g) => (
    <Box key={g.group} py="3px">
      <Flex gap="6px" align="center">
        <Mark kind={g.truth === "yes" ? "in" : "undecided"} />
        <Link onClick={() => void navigate(`/groups/${encodeURIComponent(g.group)}${carried}`)}>{g.group}</Link>
        {g.truth === "undecided" && (
          <chakra.span color="open">{g.missing?.map((k) => `${k} missing`).join(", ") || "undecided"}</chakra.span>
        )}
      </Flex>
      {g.listed ? <Text color="soft">listed after {g.listed}</Text> : <Reasons reasons={g.reasons} />}
    </Box>
  ));
}
