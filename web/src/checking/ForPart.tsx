// Whose part is shown: an application's, an area's, an owner's, or that of any tag
// that names owners.
import { Flex } from "@chakra-ui/react";
import { useState } from "react";
import { api } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { Select } from "../marks/Controls";

export const kinds = [
  ["app", "application"],
  ["~area", "area"],
  ["~owner", "owner"],
] as const;

/** By which tag, area or owner a part is told apart: of "app:booking", app. */
function kindOf(part: string) {
  const kind = part.split(":")[0]!;
  return kind === "area" || kind === "owner" ? `~${kind}` : kind;
}

export function ForPart() {
  const w = useWindow();
  const { search, change } = useAddress();
  const chosen = search.get("for") ?? "";
  const [kind, setKind] = useState(chosen ? kindOf(chosen) : "app");
  // The lists are asked for when somebody is about to look at them.
  const [wanted, setWanted] = useState(false);
  const on = { enabled: wanted || chosen !== "" };
  const tags = api.useQuery("get", "/api/v1/workloads", { params: { query: { limit: 1 } } }, on);
  const parts = api.useQuery("get", "/api/v1/check/parts", { params: { query: { ...w, by: kind } } }, on);
  const known = parts.data?.some((p) => p.key === chosen);
  const others = tags.data?.keys.filter((k) => k !== "app") ?? [];
  // Where workloads are tagged with their owner, that is what "owner" means.
  const word = (key: string, words: string) => (key === "~owner" && others.includes("owner") ? "area’s owner" : words);
  return (
    <Flex gap="6px" align="center" color="soft" onPointerEnter={() => setWanted(true)} onFocus={() => setWanted(true)}>
      <label htmlFor="for-part">For</label>
      <Select
        aria-label="kind of part"
        value={kind}
        onChange={(e) => {
          setKind(e.target.value);
          change({ for: null });
        }}
        w="112px"
        title="by application, area, owner, or a tag that names owners"
      >
        {kinds.map(([key, words]) => (
          <option key={key} value={key}>
            {word(key, words)}
          </option>
        ))}
        {!kinds.some(([key]) => key === kind) && !others.includes(kind) && <option value={kind}>{kind}</option>}
        {others.map((k) => (
          <option key={k} value={k}>
            {k}
          </option>
        ))}
      </Select>
      <Select
        id="for-part"
        value={chosen}
        onChange={(e) => change({ for: e.target.value })}
        w="140px"
        title="whose part of the estate is shown"
      >
        <option value="">everybody</option>
        {chosen && !known && <option value={chosen}>{chosen}</option>}
        {parts.data?.map((p) => (
          <option key={p.key} value={p.key}>
            {p.name} {p.counts.uncovered > 0 ? `· ${p.counts.uncovered} uncovered` : ""}
          </option>
        ))}
      </Select>
    </Flex>
  );
}
