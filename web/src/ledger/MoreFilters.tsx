// The finer filters of a ledger, and what its sides are called by.
import { chakra, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { api } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { Btn, Chip, Entry, Select } from "../marks/Controls";
import { pathWords } from "../traffic/passages";
import type { LedgerQuery } from "./shared";

/** The parts of the address that these filters are. */
export const fineKeys = [
  "clients",
  "servers",
  "services",
  "outcome",
  "bytes",
  "new",
  "unsure",
  "by",
  "for",
  "asking",
  "aside",
  "path",
  "columns",
  "rows",
  "allRows",
];

/** The filters that are on, each with a way to take it off. */
export function FineChips({ query, by = true }: { query: LedgerQuery; by?: boolean }) {
  const { change } = useAddress();
  const chips: [string, string, boolean][] = [
    ["clients", `client: ${query.clients}`, !!query.clients],
    ["servers", `server: ${query.servers}`, !!query.servers],
    ["services", `on ${query.services}`, !!query.services],
    ["outcome", query.outcome === "unknown" ? "outcome unknown" : `${query.outcome}`, !!query.outcome],
    ["bytes", `at least ${query.bytes} bytes`, !!query.bytes],
    ["new", "new in this window", !!query.new],
    ["unsure", "direction not certain", !!query.unsure],
    ["by", `by ${query.by?.replace("~", "")}`, by && !!query.by],
    ["for", `for ${query.for?.replace(":", " ")}`, !!query.for],
    ["asking", "open questions", !!query.asking],
    ["aside", query.aside === "all" ? "set aside" : `set aside: ${query.aside}`, !!query.aside],
  ];
  return (
    <>
      {chips
        .filter((c) => c[2])
        .map(([key, words]) => (
          <Chip key={key} onRemove={() => change({ [key]: null })}>
            {words}
          </Chip>
        ))}
      {query.path?.map((p) => (
        <Chip key={p} onRemove={() => change({ path: query.path?.filter((x) => x !== p) })}>
          {pathWords(p)}
        </Chip>
      ))}
    </>
  );
}

export function MoreFilters({ query, close }: { query: LedgerQuery; close: () => void }) {
  const { change } = useAddress();
  const w = useWindow();
  const keys = api.useQuery("get", "/api/v1/flows/map", { params: { query: { ...w, columns: "env", rows: "tier" } } });
  const [draft, setDraft] = useState({
    clients: query.clients ?? "",
    servers: query.servers ?? "",
    services: query.services ?? "",
    bytes: query.bytes ? String(query.bytes) : "",
  });
  const field = (name: keyof typeof draft, label: string, hint: string, width: string) => (
    <chakra.label display="flex" gap="5px" alignItems="center" fontSize="12px">
      {label}
      <Entry
        w={width}
        placeholder={hint}
        aria-label={`filter by ${label}`}
        value={draft[name]}
        set={(v) => setDraft({ ...draft, [name]: v })}
      />
    </chakra.label>
  );
  const box = (key: "new" | "unsure" | "asking", words: string, title: string, disabled = false) => (
    <chakra.label
      display="flex"
      gap="4px"
      alignItems="center"
      fontSize="12px"
      title={title}
      color={disabled ? "soft" : undefined}
    >
      <input
        type="checkbox"
        disabled={disabled}
        checked={!!query[key]}
        onChange={(e) => change({ [key]: e.target.checked ? "true" : null })}
      />
      {words}
    </chakra.label>
  );
  return (
    <chakra.form
      display="flex"
      gap="12px"
      rowGap="6px"
      flexWrap="wrap"
      alignItems="center"
      bg="tint"
      px="10px"
      py="7px"
      mb="6px"
      borderRadius="5px"
      onSubmit={(e) => {
        e.preventDefault();
        change({
          clients: draft.clients.trim(),
          servers: draft.servers.trim(),
          services: draft.services.trim(),
          bytes: Number(draft.bytes) > 0 ? String(Math.round(Number(draft.bytes))) : null,
        });
      }}
    >
      {field("clients", "client", "env is trial", "170px")}
      {field("servers", "server", "tier is store and env is live", "190px")}
      {field("services", "service", "ssh, tcp/5432", "120px")}
      {field("bytes", "at least bytes", "0", "84px")}
      <chakra.label display="flex" gap="5px" alignItems="center" fontSize="12px">
        outcome
        <Choose
          label="filter by outcome"
          value={query.outcome ?? ""}
          set={(v) => change({ outcome: v })}
          options={[
            ["", "any"],
            ["carried", "carried"],
            ["dropped", "dropped"],
            ["unknown", "unknown"],
          ]}
        />
      </chakra.label>
      {box(
        "new",
        "new in this window",
        w.from
          ? "No such traffic was seen before the window"
          : "Choose a window that begins later: there is no earlier traffic to compare with",
        !w.from,
      )}
      {box("unsure", "direction not certain", "Client and server may be swapped")}
      {box("asking", "open questions", "Without traffic that a probe expects to be rejected")}
      <chakra.label display="flex" gap="5px" alignItems="center" fontSize="12px">
        sides by
        <Choose
          label="how the sides are named"
          value={query.by ?? ""}
          set={(v) => change({ by: v })}
          options={[
            ["", "group"],
            ["~area", "area"],
            ["~owner", "owner"],
            ...(keys.data?.keys ?? []).map((k): [string, string] => [k, k]),
          ]}
        />
      </chakra.label>
      <Flex gap="6px" ml="auto">
        <Btn type="submit" primary>
          Apply
        </Btn>
        <Btn onClick={close}>Close</Btn>
      </Flex>
    </chakra.form>
  );
}

function Choose({
  label,
  value,
  set,
  options,
}: {
  label: string;
  value: string;
  set: (v: string) => void;
  options: [string, string][];
}) {
  return (
    <Select aria-label={label} value={value} onChange={(e) => set(e.target.value)} h="25px">
      {options.map(([v, shown]) => (
        <option key={v} value={v}>
          {shown}
        </option>
      ))}
    </Select>
  );
}
