// The map with its choices: drawn, as a table, or put away.
import { Box, Flex, Text } from "@chakra-ui/react";
import { api, problem } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import type { LedgerQuery } from "../ledger/shared";
import { Link, ProblemNote, Select, Switches } from "../marks/Controls";
import { plural } from "../marks/words";
import type { Verdict } from "../marks/Marks";
import { TerraceMap } from "./TerraceMap";
import { TerraceTable } from "./TerraceTable";

export function MapPart({ query }: { query: LedgerQuery }) {
  const w = useWindow();
  const { search, change } = useAddress();
  const shape = search.get("map") ?? "drawn";
  const verdict = query.verdict ?? [];
  const path = query.path ?? [];
  // The map shows everything; what is chosen on it is picked out below.
  const asked = { ...query, path: undefined, verdict: path.length ? undefined : query.verdict };
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/flows/map",
    { params: { query: { ...w, ...asked } } },
    { enabled: shape !== "off" },
  );
  const picked = path.flatMap((p) => [p, ...verdict.map((v) => `${p}&${v}`)]);
  const pick = (paths: string[], v?: Verdict) => {
    const on = path.join() === paths.join() && (v ? verdict.length === 1 && verdict[0] === v : verdict.length === 0);
    change({ path: on ? null : paths, verdict: on || !v ? null : [v] });
  };
  const folded = data?.rows.find((r) => r.name === "~others")?.values ?? 0;
  const keys = data?.keys ?? [];
  const choose = (name: "columns" | "rows", value: string) => change({ [name]: value, path: null, allRows: null });
  return (
    <Box flexShrink={0}>
      <Flex gap="10px" rowGap="4px" align="center" py="5px" wrap={{ base: "wrap", md: "nowrap" }}>
        <Switches
          label="the map"
          options={[
            { value: "drawn", shown: "Map" },
            { value: "table", shown: "Table" },
            { value: "off", shown: "Neither" },
          ]}
          on={[shape]}
          toggle={(v) => change({ map: v === "drawn" ? null : v })}
        />
        {shape !== "off" && (
          <Flex gap="5px" align="center" color="soft" fontSize="12px">
            <KeySelect
              label="columns of the map"
              keys={keys}
              value={query.columns ?? "env"}
              set={(v) => choose("columns", v)}
            />
            ×
            <KeySelect
              label="rows of the map"
              keys={keys}
              value={query.rows ?? "tier"}
              set={(v) => choose("rows", v)}
            />
            {(query.allRows || data?.rows.some((r) => r.name === "~others")) && (
              <Link
                data-all-rows={query.allRows ?? false}
                onClick={() => change({ allRows: query.allRows ? null : "true", path: null })}
              >
                {query.allRows ? "fold small rows" : `open ${plural(folded, "more row")}`}
              </Link>
            )}
            <Text>
              by workload tags. Traffic crosses a wall at a gate. Choose a plot, channel or gate to see its
              conversations below.
            </Text>
          </Flex>
        )}
      </Flex>
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {data && shape === "drawn" && data.columns.length > 0 && (
        <Box maxH="46vh" overflowY="auto">
          <TerraceMap map={data} picked={picked} pick={pick} />
        </Box>
      )}
      {data && shape === "drawn" && data.columns.length === 0 && (
        <Text color="soft">
          No workload has a value for “{query.columns ?? "env"}” yet. Tag some, or choose other columns.
        </Text>
      )}
      {data && shape === "table" && <TerraceTable map={data} picked={picked} pick={pick} />}
    </Box>
  );
}

function KeySelect({
  label,
  keys,
  value,
  set,
}: {
  label: string;
  keys: string[];
  value: string;
  set: (v: string) => void;
}) {
  const all = keys.includes(value) ? keys : [value, ...keys];
  return (
    <Select aria-label={label} value={value} onChange={(e) => set(e.target.value)} h="22px">
      {all.map((k) => (
        <option key={k}>{k}</option>
      ))}
    </Select>
  );
}
