// The workloads with their tags as columns. Thousands of rows scroll: only
// those in sight are there, and pages are fetched as they come into sight.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { api, type Schemas } from "../api/client";
import { useAddress, useWhy } from "../frame/address";
import { moveFocus } from "../ledger/shared";
import { Empty } from "../marks/Controls";
import { partsOf, useNextPage } from "../marks/pages";
import { atMinute } from "../marks/words";
import { type Editing, type Filter, isSelected } from "./editing";

const pageSize = 200;
type Row = Schemas["WorkloadOut"];
type Props = { filter: Filter; editing: Editing; setEditing: (e: Editing) => void };

export function WorkloadTable({ filter, editing, setEditing }: Props) {
  const { search, change } = useAddress();
  const sort = search.get("sort") ?? "name";
  const { subject, show } = useWhy();
  const list = api.useInfiniteQuery(
    "get",
    "/api/v1/workloads",
    { params: { query: { ...filter, sort, limit: pageSize } } },
    partsOf<Schemas["WorkloadList"]>(pageSize),
  );
  const rows = list.data?.pages.flatMap((p) => p.workloads) ?? [];
  const first = list.data?.pages[0];
  const keys = first?.keys ?? [];
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 29,
    overscan: 15,
  });
  const items = virtual.getVirtualItems();
  useNextPage(list, items.at(-1)?.index ?? 0, rows.length, 60);
  const grid = `30px minmax(120px,1.4fr) minmax(100px,1fr) ${keys.map(() => "minmax(70px,1fr)").join(" ")}`;
  const selected = new Set(editing.ids);
  const toggle = (id: string) => {
    const next = new Set(selected);
    if (!next.delete(id)) next.add(id);
    setEditing({ ids: [...next] });
  };
  const isOn = (w: Row) => (editing.all ? isSelected(editing, filter, w) : selected.has(w.id));
  const some = !!editing.all || selected.size > 0;
  const selectAll = () => setEditing(some ? { ids: [] } : { ids: [], all: { filter, count: first?.total ?? 0 } });
  const head = (key: string, shown: string) => (
    <Box
      key={key}
      role="columnheader"
      aria-sort={sort === key ? "ascending" : sort === `-${key}` ? "descending" : "none"}
      minW="0"
    >
      <chakra.button
        type="button"
        textAlign="left"
        cursor="pointer"
        color="soft"
        fontWeight="500"
        onClick={() => change({ sort: sort === key ? `-${key}` : key })}
      >
        {shown} {sort === key ? "↓" : sort === `-${key}` ? "↑" : ""}
      </chakra.button>
    </Box>
  );
  return (
    <>
      <Flex
        direction="column"
        flex="1"
        minH="0"
        role="grid"
        aria-label="workloads"
        aria-rowcount={(first?.total ?? 0) + 1}
        onKeyDown={moveFocus}
      >
        <Box
          role="row"
          display="grid"
          gridTemplateColumns={grid}
          columnGap="8px"
          px="20px"
          py="4px"
          borderBottomWidth="1px"
          borderColor="line"
          fontSize="11.5px"
          flexShrink={0}
        >
          <Box role="columnheader" justifySelf="center">
            <chakra.input
              type="checkbox"
              w="13px"
              h="13px"
              aria-label="select all that are listed"
              checked={some}
              onChange={selectAll}
            />
          </Box>
          {head("name", "Name")}
          {head("address", "Address")}
          {keys.map((k) => head(k, k))}
        </Box>
        <Box ref={scroller} flex="1" minH="0" overflowY="auto" role="rowgroup">
          {!list.isLoading && rows.length === 0 && (
            <Empty title="No workload matches these filters">Remove a filter.</Empty>
          )}
          <Box h={`${virtual.getTotalSize()}px`} position="relative">
            {items.map((item) => {
              const w = rows[item.index]!;
              const why = subject?.kind === "workload" && subject.id === w.id;
              return (
                <Box
                  key={w.id}
                  role="row"
                  data-row="0"
                  data-workload={w.id}
                  tabIndex={0}
                  aria-selected={isOn(w)}
                  onKeyDown={(e) => {
                    if (e.target !== e.currentTarget) return;
                    if (e.key === " ") toggle(w.id);
                    else if (e.key === "Enter") show({ kind: "workload", id: w.id });
                    else return;
                    e.preventDefault();
                  }}
                  position="absolute"
                  top="0"
                  left="0"
                  right="0"
                  h="29px"
                  transform={`translateY(${item.start}px)`}
                  display="grid"
                  gridTemplateColumns={grid}
                  columnGap="8px"
                  alignItems="center"
                  px="20px"
                  borderBottomWidth="1px"
                  borderColor="line2"
                  bg={isOn(w) || why ? "tint" : undefined}
                  _hover={{ bg: "tint" }}
                  _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
                >
                  <Box role="gridcell" justifySelf="center">
                    <chakra.input
                      type="checkbox"
                      w="13px"
                      h="13px"
                      tabIndex={-1}
                      aria-label={`select ${w.name}`}
                      checked={isOn(w)}
                      onChange={() => toggle(w.id)}
                    />
                  </Box>
                  <Box role="gridcell" truncate>
                    <chakra.button
                      type="button"
                      tabIndex={-1}
                      fontWeight="600"
                      cursor="pointer"
                      onClick={() => show({ kind: "workload", id: w.id })}
                    >
                      {w.name}
                    </chakra.button>
                  </Box>
                  <Box
                    role="gridcell"
                    fontFamily="mono"
                    fontSize="12px"
                    truncate
                    title={w.leases.map((l) => l.addr).join(" ")}
                  >
                    {w.leases.find((l) => l.now)?.addr ??
                      (w.leases.length ? (
                        <chakra.span color="soft">had {w.leases[0]!.addr}</chakra.span>
                      ) : (
                        <chakra.span color="soft">no address</chakra.span>
                      ))}
                  </Box>
                  {keys.map((k) => (
                    <TagCell
                      key={k}
                      tag={w.tags.find((t) => t.key === k)}
                      needNot={w.notApplicable?.includes(k)}
                      edit={() =>
                        setEditing(
                          isOn(w)
                            ? { ids: editing.ids, all: editing.all, key: k, value: valueOf(w, k) }
                            : { ids: [w.id], key: k, value: valueOf(w, k), was: valueOf(w, k) ?? "" },
                        )
                      }
                      name={`${k} of ${w.name}`}
                    />
                  ))}
                </Box>
              );
            })}
          </Box>
        </Box>
      </Flex>
      <Flex
        gap="6px"
        align="center"
        px="20px"
        py="3px"
        fontSize="11.5px"
        color="soft"
        borderTopWidth="1px"
        borderColor="line2"
        flexShrink={0}
      >
        <Source /> from a source
        <chakra.span w="8px" />
        <Source hand /> set by hand{" "}
        <Text ml="auto">press a tag to change it · Space selects · Enter shows details</Text>
      </Flex>
    </>
  );
}

const valueOf = (w: Schemas["WorkloadOut"], key: string) => w.tags.find((t) => t.key === key)?.value;

function TagCell({
  tag,
  needNot,
  edit,
  name,
}: {
  tag?: Schemas["TagOut"];
  needNot?: boolean;
  edit: () => void;
  name: string;
}) {
  const none = needNot ? "not applicable" : "missing";
  return (
    <Box role="gridcell" truncate>
      <chakra.button
        type="button"
        tabIndex={-1}
        aria-label={`${tag?.value ?? none}, change ${name}`}
        onClick={edit}
        textAlign="left"
        cursor="text"
        w="100%"
        truncate
        title={tag ? `${tag.byHand ? `set by hand by ${tag.by}` : `from ${tag.source}`}, ${atMinute(tag.at)}` : none}
      >
        {tag ? (
          <>
            {tag.value.replace(/ +$/, (s) => "␣".repeat(s.length))} <Source hand={tag.byHand} />
          </>
        ) : (
          <chakra.span color={needNot ? "soft" : "open"} fontWeight={needNot ? "400" : "500"}>
            {none}
          </chakra.span>
        )}
      </chakra.button>
    </Box>
  );
}

function Source({ hand }: { hand?: boolean }) {
  return (
    <chakra.span
      display="inline-block"
      w="6px"
      h="6px"
      borderRadius="full"
      bg={hand ? "accent" : "volumeFaint"}
      verticalAlign="1px"
      role="img"
      aria-label={hand ? "set by hand" : "from a source"}
    />
  );
}
