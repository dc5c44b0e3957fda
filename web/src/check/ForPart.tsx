// Whose part is shown: an application's, an area's or an owner's.
import { chakra, Flex } from "@chakra-ui/react";
import { useState } from "react";
import { api } from "../api/client";
import { useAddress, useWindow } from "../frame/address";

export const kinds = [
  ["app", "application"],
  ["~area", "area"],
  ["~owner", "owner"],
] as const;

export function ForPart() {
  const w = useWindow();
  const { search, change } = useAddress();
  const chosen = search.get("for") ?? "";
  // The lists are asked for when somebody is about to look at them.
  const [wanted, setWanted] = useState(false);
  const options = { enabled: wanted || chosen !== "" };
  const lists = [
    api.useQuery("get", "/api/v1/check/parts", { params: { query: { ...w, by: "app" } } }, options),
    api.useQuery("get", "/api/v1/check/parts", { params: { query: { ...w, by: "~area" } } }, options),
    api.useQuery("get", "/api/v1/check/parts", { params: { query: { ...w, by: "~owner" } } }, options),
  ];
  const known = lists.some((l) => l.data?.some((p) => p.key === chosen));
  return (
    <Flex gap="6px" align="center" color="soft" onPointerEnter={() => setWanted(true)} onFocus={() => setWanted(true)}>
      <label htmlFor="for-part">For</label>
      <chakra.select
        id="for-part"
        value={chosen}
        onChange={(e) => change({ for: e.target.value })}
        bg="sheet"
        color="ink"
        borderWidth="1px"
        borderColor="line"
        borderRadius="5px"
        h="27px"
        px="6px"
        fontSize="12.5px"
        w="140px"
        title="whose part of the estate is shown"
      >
        <option value="">everybody</option>
        {chosen && !known && <option value={chosen}>{chosen}</option>}
        {kinds.map(([, word], i) =>
          lists[i]?.data?.length ? (
            <optgroup key={word} label={word}>
              {lists[i]!.data!.map((p) => (
                <option key={p.key} value={p.key}>
                  {p.name} {p.counts.uncovered > 0 ? `· ${p.counts.uncovered} uncovered` : ""}
                </option>
              ))}
            </optgroup>
          ) : null,
        )}
      </chakra.select>
    </Flex>
  );
}
