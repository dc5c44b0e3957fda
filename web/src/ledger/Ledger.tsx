// The reach ledger: who reaches this? A row for each served thing, unfolding in
// place to its callers, their conversations, and the hours of each.
import { Box, chakra, Flex } from "@chakra-ui/react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { api, problem, type Schemas } from "../api/client";
import { useWindow } from "../frame/address";
import { ProblemNote } from "../marks/Controls";
import { partsOf, useNextPage } from "../marks/pages";
import { plural } from "../marks/words";
import { columns, useExtras } from "./columns";
import { ServedRow } from "./ServedRow";
import { type LedgerQuery, moveFocus } from "./shared";

const pageSize = 100;

export function Ledger({ query, empty }: { query: LedgerQuery; empty: React.ReactNode }) {
  const w = useWindow();
  const list = api.useInfiniteQuery(
    "get",
    "/api/v1/ledger",
    { params: { query: { ...w, ...query, limit: pageSize } } },
    partsOf<Schemas["LedgerPage"]>(pageSize),
  );
  const scroller = useRef<HTMLDivElement>(null);
  const rows = list.data?.pages.flatMap((p) => p.rows) ?? [];
  const total = list.data?.pages[0]?.total ?? 0;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 30,
    overscan: 12,
    getItemKey: (i) => `${rows[i]?.key} ${rows[i]?.service}`,
  });
  const items = virtual.getVirtualItems();
  useNextPage(list, items.at(-1)?.index ?? 0, rows.length, 20);
  if (list.error) return <ProblemNote>{problem(list.error)}</ProblemNote>;
  return (
    <Flex
      direction="column"
      minH="0"
      flex="1"
      role="treegrid"
      aria-label="the reach ledger"
      aria-rowcount={total + 1}
      onKeyDown={moveFocus}
    >
      <Header turned={query.turn === "reaches"} total={total} loading={list.isLoading} />
      <Box ref={scroller} flex="1" minH="0" overflowY="auto" role="rowgroup">
        {!list.isLoading && rows.length === 0 && empty}
        <Box h={`${virtual.getTotalSize()}px`} position="relative">
          {items.map((item) => (
            <Box
              key={item.key}
              data-index={item.index}
              ref={virtual.measureElement}
              position="absolute"
              top="0"
              left="0"
              right="0"
              transform={`translateY(${item.start}px)`}
            >
              <ServedRow row={rows[item.index]!} query={query} />
            </Box>
          ))}
        </Box>
      </Box>
    </Flex>
  );
}

function Header({ turned, total, loading }: { turned: boolean; total: number; loading: boolean }) {
  const { chosen } = useExtras();
  const heads = [
    turned ? "Caller" : "Reached",
    "Service",
    "Conv.",
    "Verdict",
    turned ? "Reaches" : "Callers",
    "Window",
  ];
  return (
    <Flex
      role="row"
      borderBottomWidth="1px"
      borderColor="line"
      color="soft"
      fontSize="11.5px"
      fontWeight="500"
      py="4px"
      pr="10px"
      flexShrink={0}
    >
      {heads.map((h, i) => (
        <Box
          key={h}
          role="columnheader"
          {...columns[i]}
          pl={i === 0 ? "6px" : "8px"}
          textAlign={i === 2 ? "right" : "left"}
        >
          {i === 0 && <chakra.span display="inline-block" w="18px" />}
          {h}
          {i === 0 && !loading && ` · ${plural(total, "row")}`}
        </Box>
      ))}
      {chosen.map((e) => (
        <Box key={e.key} role="columnheader" w={e.w} flexShrink={0} pl="8px" textAlign="right">
          {e.head}
        </Box>
      ))}
    </Flex>
  );
}
