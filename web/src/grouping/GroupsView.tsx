// Groups: who is in, and of whom can it not tell?
import { besides } from "../marks/layout";
import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, problem } from "../api/client";
import { useAddress, useCarried } from "../frame/address";
import { moveFocus } from "../ledger/shared";
import { Btn, Empty, Entry, Link, ProblemNote } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { GroupEditor } from "./GroupEditor";
import { Starters } from "./Starters";

export function GroupsView() {
  const { name } = useParams();
  const navigate = useNavigate();
  const carried = useCarried();
  const { search, change } = useAddress();
  const [text, setText] = useState("");
  const { data, error } = api.useQuery("get", "/api/v1/groups");
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data) return null;
  const chosen = name === "new" ? undefined : (data.find((g) => g.name === name) ?? (name ? undefined : data[0]));
  const shown = data.filter(
    (g) => g.name.toLowerCase().includes(text.toLowerCase()) || g.body.toLowerCase().includes(text.toLowerCase()),
  );
  const go = (to: string) => void navigate(to ? `/groups/${encodeURIComponent(to)}${carried}` : `/groups${carried}`);
  return (
    <Grid {...besides("310px")} h="100%">
      <Flex direction="column" borderRightWidth="1px" borderColor="line" minH="0" pt="12px">
        <Flex px="20px" align="center" justify="space-between" mb="6px">
          <Text fontFamily="heading" fontSize="19px">
            {plural(data.length, "group")}
          </Text>
          <Flex gap="10px" align="center">
            <chakra.a
              href="/api/v1/groups.csv"
              download
              color="soft"
              textDecoration="underline"
              textUnderlineOffset="3px"
            >
              CSV
            </chakra.a>
            <Link color="soft" onClick={() => change({ starters: "1" })}>
              starters
            </Link>
            <Btn onClick={() => go("new")}>New group</Btn>
          </Flex>
        </Flex>
        <Box px="20px" pb="6px">
          <Entry placeholder="find a group" aria-label="find a group" value={text} set={setText} />
        </Box>
        <Box overflowY="auto" flex="1" onKeyDown={moveFocus}>
          {shown.map((g) => (
            <chakra.button
              key={g.name}
              type="button"
              data-row="0"
              aria-current={g === chosen}
              onClick={() => go(g.name)}
              display="flex"
              gap="7px"
              w="100%"
              px="20px"
              py="5px"
              textAlign="left"
              cursor="pointer"
              alignItems="baseline"
              borderBottomWidth="1px"
              borderColor="line2"
              borderLeftWidth="3px"
              borderLeftColor={g === chosen ? "accent" : "transparent"}
              bg={g === chosen ? "tint" : undefined}
              _hover={{ bg: "tint" }}
            >
              <Text truncate>{g.name}</Text>
              <Text fontSize="11.5px" color="open" flexShrink={0}>
                {[
                  g.undecided > 0 && `${n(g.undecided)} undecided`,
                  ...g.findings.map((f) => f.kind).filter((k) => k !== "undecided members"),
                ]
                  .filter(Boolean)
                  .join(", ")}
              </Text>
              <Text
                ml="auto"
                color="soft"
                flexShrink={0}
                title={
                  g.unaddressed > 0
                    ? `${plural(g.in, "member")}, ${n(g.unaddressed)} of them without an address now`
                    : "members"
                }
              >
                {g.in === 0 && g.prefixes > 0 ? plural(g.prefixes, "prefix", "prefixes") : n(g.in)}
              </Text>
            </chakra.button>
          ))}
        </Box>
      </Flex>
      {name && name !== "new" && !chosen ? (
        <Empty title={`There is no group ${name}`}>
          It may have been renamed or removed. If that was the last edit, undo restores it.
        </Empty>
      ) : data.length === 0 && name !== "new" ? (
        <Empty title="No groups yet">
          A group is an expression over tags, so tomorrow’s machine joins it automatically.
          <Box mt="10px">
            <Flex gap="8px" justify="center">
              <Btn primary onClick={() => change({ starters: "1" })}>
                Start from the tags…
              </Btn>
              <Btn onClick={() => go("new")}>Write the first group</Btn>
            </Flex>
          </Box>
        </Empty>
      ) : (
        <GroupEditor key={chosen?.name ?? "new"} group={chosen} onSaved={go} />
      )}
      {search.has("starters") && <Starters close={() => change({ starters: null })} />}
    </Grid>
  );
}
