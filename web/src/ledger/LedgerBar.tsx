// The filters above a ledger; all of them live in the address.
import { Flex } from "@chakra-ui/react";
import { useState } from "react";
import { useAddress, useWindow } from "../frame/address";
import { Selections } from "../frame/Selections";
import { Btn, Chip, Select, Switches, Typed } from "../marks/Controls";
import { Menu } from "../marks/Menu";
import { Mark, type Verdict } from "../marks/Marks";
import { NoticeDialog } from "../watching/NoticeDialog";
import { noticeFilter } from "../watching/watch";
import { extras, useExtras } from "./columns";
import { FineChips, fineKeys, MoreFilters } from "./MoreFilters";
import type { LedgerQuery } from "./shared";

/** The ledger's question as the address has it. */
export function useLedgerQuery(): LedgerQuery {
  const { search } = useAddress();
  return {
    verdict: search.getAll("verdict") as Verdict[],
    odd: search.get("odd") === "1" || undefined,
    turn: search.get("turn") === "reaches" ? "reaches" : "reached",
    q: search.get("q") ?? undefined,
    rule: Number(search.get("rule")) || undefined,
    group: search.get("group") ?? undefined,
    workload: search.get("workload") ?? undefined,
    against: Number(search.get("against")) || undefined,
    was: search.get("against") ? (search.getAll("was") as Verdict[]) : undefined,
    clients: search.get("clients") ?? undefined,
    servers: search.get("servers") ?? undefined,
    services: search.get("services") ?? undefined,
    outcome: (search.get("outcome") as LedgerQuery["outcome"]) ?? undefined,
    bytes: Number(search.get("bytes")) || undefined,
    new: search.get("new") === "true" || undefined,
    unsure: search.get("unsure") === "true" || undefined,
    by: search.get("by") ?? undefined,
    for: search.get("for") ?? undefined,
    asking: search.get("asking") === "true" || undefined,
    aside: search.get("aside") ?? undefined,
    columns: search.get("columns") ?? undefined,
    rows: search.get("rows") ?? undefined,
    allRows: search.get("allRows") === "true" || undefined,
    path: search.has("path") ? search.getAll("path") : undefined,
  };
}

/** The parts of the address that the filter of a ledger is. */
const filterKeys = ["verdict", "odd", "turn", "q", "rule", "group", "workload", ...fineKeys];

/** Why nobody can be told of what a filter selects; blank: one can. */
function untellable(query: LedgerQuery, filter: string) {
  if (query.rule) return "line numbers change with the text; filter by clients, servers and services instead";
  if (query.was?.length) return "a notice cannot compare revisions";
  return filter ? "" : "set a filter first";
}

const verdicts: Verdict[] = ["uncovered", "reject", "permit"];

/** switches: the verdicts as switches; not where they stand in the view already. */
export function LedgerBar({ query, switches = true }: { query: LedgerQuery; switches?: boolean }) {
  const { change, search } = useAddress();
  const w = useWindow();
  const on = query.verdict ?? [];
  const [more, setMore] = useState(false);
  const { chosen, toggle: toggleColumn } = useExtras();
  const selected = new URLSearchParams();
  for (const k of [...filterKeys, "was"]) for (const v of search.getAll(k)) selected.append(k, v);
  const tellable = noticeFilter(selected.toString());
  const exported = new URLSearchParams();
  for (const [k, v] of Object.entries({ ...w, ...query })) {
    for (const one of Array.isArray(v) ? v : [v]) if (one) exported.append(k, String(one));
  }
  return (
    <>
      <Flex gap="8px" rowGap="4px" align="center" py="6px" wrap="wrap">
        {switches && (
          <Switches
            label="verdicts"
            options={verdicts.map((v) => ({
              value: v,
              shown: (
                <>
                  <Mark kind={v} size={10} /> {v}
                </>
              ),
            }))}
            on={on}
            toggle={(v) => change({ verdict: on.includes(v) ? on.filter((x) => x !== v) : [...on, v] })}
          />
        )}
        <Switches
          label="leaks and chokes"
          options={[{ value: "odd", shown: "leaks and chokes" }]}
          on={query.odd ? ["odd"] : []}
          toggle={() => change({ odd: query.odd ? null : "1" })}
        />
        <Switches
          label="direction"
          options={[
            { value: "reached", shown: "Who reaches it" },
            { value: "reaches", shown: "What it reaches" },
          ]}
          on={[query.turn ?? "reached"]}
          toggle={(v) => change({ turn: v === "reaches" ? v : null })}
        />
        {!switches && (
          <Select
            aria-label="grouped by"
            value={query.by ?? ""}
            onChange={(e) => change({ by: e.target.value })}
            px="4px"
          >
            {[
              ["", "group"],
              ["app", "application"],
              ["~area", "area"],
              ["~owner", "owner"],
              ...(query.by && !["app", "~area", "~owner"].includes(query.by) ? [[query.by, query.by]] : []),
            ].map(([value, words]) => (
              <option key={value} value={value}>
                {`by ${words}`}
              </option>
            ))}
          </Select>
        )}
        <Typed
          w="136px"
          placeholder="name or service"
          aria-label="filter the ledger"
          value={query.q ?? ""}
          set={(q) => change({ q })}
        />
        {query.was && query.was.length > 0 && (
          <Chip onRemove={() => change({ was: null })}>
            {query.was.join(", ")} in revision {query.against}
          </Chip>
        )}
        {query.group && <Chip onRemove={() => change({ group: null })}>members of {query.group}</Chip>}
        {query.workload && <Chip onRemove={() => change({ workload: null })}>{query.workload}</Chip>}
        {query.rule && <Chip onRemove={() => change({ rule: null })}>decided by line {query.rule}</Chip>}
        <FineChips query={query} by={switches} />
        <Btn aria-expanded={more} onClick={() => setMore(!more)}>
          Filters…
        </Btn>
        <Flex ml="auto" gap="6px">
          <Menu
            label="Columns"
            items={extras.map((e) => ({
              shown: `${chosen.includes(e) ? "✓" : "　"} ${e.head}`,
              run: () => toggleColumn(e.key),
            }))}
          />
          <TellOfThese filter={tellable} why={untellable(query, tellable)} />
          <Selections list={window.location.pathname.slice(1)} keys={[...filterKeys, "show"]} />
          <Menu
            label="Export"
            items={[
              { shown: "Conversations as CSV", href: `/api/v1/conversations.csv?${exported}` },
              { shown: "Conversations as JSON Lines", href: `/api/v1/conversations.jsonl?${exported}` },
              { shown: "These rows as CSV", href: `/api/v1/ledger.csv?${exported}` },
            ]}
          />
        </Flex>
      </Flex>
      {more && <MoreFilters query={query} close={() => setMore(false)} />}
    </>
  );
}

/** Be told when more of what the filter selects comes; why not, if not. */
function TellOfThese({ filter, why }: { filter: string; why: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Btn disabled={!!why} title={why || "be notified of more such traffic"} onClick={() => setOpen(true)}>
        Notify me…
      </Btn>
      {open && <NoticeDialog selects={filter} matters={[]} close={() => setOpen(false)} />}
    </>
  );
}
