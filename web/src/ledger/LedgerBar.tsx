// The filters above a ledger; all of them live in the address.
import { Flex, Input } from "@chakra-ui/react";
import { useState } from "react";
import { useAddress, useWindow } from "../frame/address";
import { Selections } from "../frame/Selections";
import { Chip, inputStyle, Switches } from "../marks/Controls";
import { Menu } from "../marks/Menu";
import { Mark, type Verdict } from "../marks/Marks";
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
  };
}

const verdicts: Verdict[] = ["uncovered", "reject", "permit"];

export function LedgerBar({ query }: { query: LedgerQuery }) {
  const { change } = useAddress();
  const w = useWindow();
  const [text, setText] = useState(query.q ?? "");
  const [seen, setSeen] = useState(query.q);
  if (seen !== query.q) {
    setSeen(query.q);
    setText(query.q ?? "");
  }
  const on = query.verdict ?? [];
  const exported = new URLSearchParams();
  for (const [k, v] of Object.entries({ ...w, ...query })) {
    for (const one of Array.isArray(v) ? v : [v]) if (one) exported.append(k, String(one));
  }
  return (
    <Flex gap="8px" align="center" py="8px" wrap="wrap">
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
      <form
        onSubmit={(e) => {
          e.preventDefault();
          change({ q: text.trim() });
        }}
      >
        <Input {...inputStyle} w="136px" placeholder="name or service" aria-label="filter the ledger" value={text} onChange={(e) => setText(e.target.value)} onBlur={() => text.trim() !== (query.q ?? "") && change({ q: text.trim() })} />
      </form>
      {query.was && query.was.length > 0 && (
        <Chip onRemove={() => change({ was: null })}>
          {query.was.join(", ")} in revision {query.against}
        </Chip>
      )}
      {query.group && <Chip onRemove={() => change({ group: null })}>members of {query.group}</Chip>}
      {query.workload && <Chip onRemove={() => change({ workload: null })}>{query.workload}</Chip>}
      {query.rule && <Chip onRemove={() => change({ rule: null })}>decided by line {query.rule}</Chip>}
      <Flex ml="auto" gap="6px">
        <Selections list={window.location.pathname.slice(1)} keys={["verdict", "odd", "turn", "q", "rule", "group", "workload"]} />
        <Menu
          label="Export"
          items={[
            { shown: "Conversations as CSV", href: `/api/conversations.csv?${exported}` },
            { shown: "These rows as CSV", href: `/api/ledger.csv?${exported}` },
          ]}
        />
      </Flex>
    </Flex>
  );
}
