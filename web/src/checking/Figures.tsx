// The figures of rules and groups: what was seen of each in the window.
import { Box, chakra, Flex } from "@chakra-ui/react";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useRef } from "react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { moveFocus } from "../ledger/shared";
import { Empty, Link, Switches } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { atMinute, n, utc } from "../marks/words";

type Use = Schemas["UseOut"];
type Row = { key: string; name: React.ReactNode; title: string; uses: Use[]; open: () => void };

export function Figures() {
  const w = useWindow();
  const { search, change } = useAddress();
  const of = search.get("figures") === "groups" ? "groups" : "rules";
  const sort = search.get("sort") ?? "";
  const carried = useCarried();
  const navigate = useNavigate();
  const { data } = api.useQuery("get", "/api/v1/figures", { params: { query: w } });
  if (!data) return null;
  const and = (path: string, more = "") => void navigate(`${path}${carried}${more && (carried ? "&" : "?") + more}`);
  const rows: Row[] =
    of === "rules"
      ? data.rules.map((r) => ({
          key: String(r.line),
          title: r.sentence,
          open: () => and("/policy", `line=${r.line}`),
          uses: [r.use],
          name: (
            <>
              <Mark kind={r.verdict} size={10} />{" "}
              <chakra.span color={r.off ? "soft" : undefined}>{r.sentence}</chakra.span>{" "}
              {r.note && <chakra.span color="soft">“{r.note}”</chakra.span>}
            </>
          ),
        }))
      : data.groups.map((g) => ({
          key: g.name,
          title: g.name,
          open: () => and(`/groups/${encodeURIComponent(g.name)}`),
          uses: [g.reached, g.reaches],
          name: <b>{g.name}</b>,
        }));
  const by: Record<string, (u: Use) => number | string> = {
    conversations: (u) => u.conversations,
    pairs: (u) => u.pairs,
    last: (u) => u.last ?? "",
  };
  const value = by[sort];
  if (value)
    rows.sort((a, b) => (value(b.uses[0]!) > value(a.uses[0]!) ? 1 : value(b.uses[0]!) < value(a.uses[0]!) ? -1 : 0));
  const file = `/api/v1/figures/${of}.csv?${new URLSearchParams(Object.entries(w).filter((e): e is [string, string] => !!e[1]))}`;
  return (
    <Flex direction="column" minH="0" flex="1" mt="8px">
      <Flex gap="12px" align="center" pb="5px">
        <Switches
          label="figures of"
          on={[of]}
          toggle={(v) => change({ figures: v === "rules" ? null : v })}
          options={[
            { value: "rules", shown: `Rules ${n(data.rules.length)}` },
            { value: "groups", shown: `Groups ${n(data.groups.length)}` },
          ]}
        />
        <chakra.span color="soft" fontSize="12px">
          {of === "rules"
            ? "The conversations of the window that each rule decided."
            : "The conversations of the window to and from each group."}
        </chakra.span>
        <chakra.a
          ml="auto"
          href={file}
          download
          color="soft"
          fontSize="12px"
          textDecoration="underline"
          textUnderlineOffset="3px"
        >
          Export CSV
        </chakra.a>
      </Flex>
      <Heads of={of} sort={sort} choose={(s) => change({ sort: s === sort ? null : s }, { replace: true })} />
      <Rows rows={rows} empty={of === "rules" ? "No rules yet" : "No groups yet"} />
    </Flex>
  );
}

const widths = { number: "76px", last: "126px", spark: "84px" };

function Heads({ of, sort, choose }: { of: string; sort: string; choose: (s: string) => void }) {
  const head = (key: string, words: string, w: string) => (
    <chakra.button
      key={key}
      type="button"
      w={w}
      flexShrink={0}
      textAlign="right"
      cursor="pointer"
      aria-pressed={sort === key}
      fontWeight={sort === key ? "600" : "500"}
      onClick={() => choose(key)}
      title="sort by it; again: as in the text"
    >
      {words}
      {sort === key && " ↓"}
    </chakra.button>
  );
  return (
    <Flex borderBottomWidth="1px" borderColor="line" color="soft" fontSize="11.5px" py="4px" gap="8px" pr="10px">
      <Box flex="1">{of === "rules" ? "Rule" : "Group"}</Box>
      {head("conversations", of === "rules" ? "Conv." : "Reached", widths.number)}
      {head("pairs", "Pairs", widths.number)}
      {head("last", "Last seen", widths.last)}
      <Box w={widths.spark} flexShrink={0}>
        Window
      </Box>
      {of === "groups" && (
        <>
          <Box w={widths.number} textAlign="right" flexShrink={0}>
            Reaches
          </Box>
          <Box w={widths.number} textAlign="right" flexShrink={0}>
            Pairs
          </Box>
          <Box w={widths.spark} flexShrink={0}>
            Window
          </Box>
        </>
      )}
    </Flex>
  );
}

function Rows({ rows, empty }: { rows: Row[]; empty: string }) {
  const scroller = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => 28,
    overscan: 12,
    getItemKey: (i) => rows[i]?.key ?? i,
  });
  return (
    <Box ref={scroller} flex="1" minH="0" overflowY="auto" role="region" aria-label="figures" onKeyDown={moveFocus}>
      {rows.length === 0 && <Empty title={empty} />}
      <Box h={`${virtual.getTotalSize()}px`} position="relative">
        {virtual.getVirtualItems().map((item) => {
          const r = rows[item.index]!;
          const first = r.uses[0]!;
          const second = r.uses[1];
          return (
            <Flex
              key={item.key}
              data-row="0"
              data-figures={r.key}
              role="group"
              aria-label={r.key}
              tabIndex={0}
              position="absolute"
              top="0"
              left="0"
              right="0"
              h="28px"
              transform={`translateY(${item.start}px)`}
              align="center"
              gap="8px"
              pr="10px"
              borderBottomWidth="1px"
              borderColor="line2"
              _hover={{ bg: "tint" }}
              onKeyDown={(e) => e.key === "Enter" && r.open()}
            >
              <Link
                flex="1"
                minW="0"
                overflow="hidden"
                textOverflow="ellipsis"
                whiteSpace="nowrap"
                textDecoration="none"
                title={r.title}
                onClick={r.open}
                tabIndex={-1}
              >
                {r.name}
              </Link>
              <Number v={first.conversations} />
              <Number v={first.pairs} />
              <Box w={widths.last} textAlign="right" flexShrink={0} color="soft" title={first.last && utc(first.last)}>
                {first.last ? atMinute(first.last) : "never"}
              </Box>
              <Box w={widths.spark} flexShrink={0}>
                {first.conversations > 0 && <Spark values={first.spark} />}
              </Box>
              {second && (
                <>
                  <Number v={second.conversations} />
                  <Number v={second.pairs} />
                  <Box w={widths.spark} flexShrink={0}>
                    {second.conversations > 0 && <Spark values={second.spark} />}
                  </Box>
                </>
              )}
            </Flex>
          );
        })}
      </Box>
    </Box>
  );
}

function Number({ v }: { v: number }) {
  return (
    <Box w={widths.number} textAlign="right" flexShrink={0} color={v === 0 ? "soft" : undefined}>
      {n(v)}
    </Box>
  );
}
