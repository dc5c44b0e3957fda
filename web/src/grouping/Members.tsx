// Who is in, of whom it cannot tell, and who is out: as an expression that is being
// written would have it, or all of them as the draft has it.
import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useDeferredValue, useState } from "react";
import { api, problem, type Schemas } from "../api/client";
import { useWhy } from "../frame/address";
import { moveFocus } from "../ledger/shared";
import { Entry, Link } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { partsOf } from "../marks/pages";
import { n } from "../marks/words";

type Preview = Schemas["GroupPreview"];
type Kind = "in" | "undecided" | "out";
const titles: Record<Kind, string> = { in: "In", undecided: "Undecided", out: "Out" };
const answers = { in: "yes", undecided: "undecided", out: "no" } as const;
const pageSize = 200;

export function Members({ p, name }: { p: Preview; name?: string }) {
  const [words, setWords] = useState("");
  const q = useDeferredValue(words);
  return (
    <>
      {name && (
        <Flex mt="10px" gap="12px" align="center">
          <Entry
            h="25px"
            w="260px"
            aria-label="search the members"
            placeholder="search: words, or tier is store"
            value={words}
            set={setWords}
          />
          <chakra.a
            color="soft"
            textDecoration="underline"
            download
            href={`/api/v1/groups/members.csv?${new URLSearchParams({ name, q })}`}
          >
            Export members
          </chakra.a>
        </Flex>
      )}
      <Grid templateColumns={{ base: "minmax(0,1fr)", md: "repeat(3, minmax(0,1fr))" }} gap="22px" mt="12px">
        {(["in", "undecided", "out"] as const).map((kind) =>
          name ? <Stored key={kind} kind={kind} name={name} q={q} /> : <Shown key={kind} kind={kind} p={p} />,
        )}
      </Grid>
    </>
  );
}

function Shown({ kind, p }: { kind: Kind; p: Preview }) {
  return (
    <Column kind={kind} count={p.counts[kind]} was={p.was[kind]}>
      {p[kind].map((m) => (
        <Row key={m.id} m={m} />
      ))}
      {p.counts[kind] > p[kind].length && <Text color="soft">{n(p.counts[kind] - p[kind].length)} more</Text>}
    </Column>
  );
}

/** Those of the group in the draft, read in pages. */
function Stored({ kind, name, q }: { kind: Kind; name: string; q: string }) {
  const list = api.useInfiniteQuery(
    "get",
    "/api/v1/groups/members",
    { params: { query: { name, as: answers[kind], q, limit: pageSize } } },
    partsOf<Schemas["MemberPage"]>(pageSize),
  );
  const rows = list.data?.pages.flatMap((x) => x.members) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  return (
    <Column kind={kind} count={total}>
      {list.error && <Text color="reject">{problem(list.error)}</Text>}
      {rows.map((m) => (
        <Row key={m.id} m={m} />
      ))}
      {list.hasNextPage && (
        <Link disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
          {n(Math.min(pageSize, total - rows.length))} more of {n(total - rows.length)}
        </Link>
      )}
    </Column>
  );
}

function Row({ m }: { m: Schemas["Member"] }) {
  const { show } = useWhy();
  return (
    <Flex gap="6px" py="3px" borderBottomWidth="1px" borderColor="line2">
      {m.change && (
        <chakra.span fontWeight="600" color={m.change === "joins" ? "permit" : "reject"} aria-label={m.change}>
          {m.change === "joins" ? "+" : "−"}
        </chakra.span>
      )}
      <Link
        data-row="0"
        onClick={() => show({ kind: "workload", id: m.id })}
        textDecoration="none"
        overflow="hidden"
        textOverflow="ellipsis"
        whiteSpace="nowrap"
      >
        {m.name}
      </Link>
      <Text ml="auto" color={m.missing?.length ? "open" : "soft"} flexShrink={0} maxW="60%" truncate>
        {m.why}
      </Text>
    </Flex>
  );
}

function Column({
  kind,
  count,
  was,
  children,
}: {
  kind: Kind;
  count: number;
  was?: number;
  children: React.ReactNode;
}) {
  return (
    <Box minW="0" role="region" aria-label={titles[kind]} data-members={count}>
      <Flex gap="8px" align="baseline" borderBottomWidth="1px" borderColor="line" pb="3px">
        <Mark kind={kind} />
        <Text fontFamily="heading" fontSize="16px">
          {titles[kind]}
        </Text>
        <Text color="soft">
          {n(count)}
          {was !== undefined && was !== count && was + count > 0 && `, was ${n(was)}`}
        </Text>
      </Flex>
      <Box maxH="300px" overflowY="auto" onKeyDown={moveFocus} role="group" aria-label={`${titles[kind]}, list`}>
        {children}
        {count === 0 && <Text color="soft">nobody</Text>}
      </Box>
    </Box>
  );
}
