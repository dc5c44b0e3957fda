// The columns of the ledger, shared by its head and its rows. Some can be
// chosen; which are is in the address.
import { useMemo } from "react";
import { useAddress } from "../frame/address";

export const columns = [
  { flex: "2.2 1 0", minW: "0" },
  { w: { base: "112px", md: "158px" }, flexShrink: 0 },
  { w: "62px", flexShrink: 0 },
  { w: { base: "110px", md: "152px" }, flexShrink: 0 },
  { flex: "3 1 0", minW: "0", hideBelow: "md" },
  { w: "92px", flexShrink: 0, hideBelow: "md" },
] as const;

/** What can stand beside the columns that are always there. Rows that sum up conversations
    leave out what only single ones have: these columns are marked. */
export const extras = [
  { key: "connections", head: "Connections", w: "84px" },
  { key: "bytes", head: "Bytes", w: "70px" },
  { key: "first", head: "First seen", w: "124px" },
  { key: "last", head: "Last seen", w: "124px" },
  { key: "rules", head: "Lines", w: "84px" },
  { key: "packets", head: "Packets", w: "70px", single: true },
  { key: "outcome", head: "Outcomes", w: "150px", single: true },
  { key: "exporters", head: "Exporters", w: "110px", single: true },
  { key: "clientGroups", head: "Client’s groups", w: "130px", single: true },
  { key: "serverGroups", head: "Server’s groups", w: "130px", single: true },
  { key: "clientTags", head: "Client’s tags", w: "170px", single: true },
  { key: "serverTags", head: "Server’s tags", w: "170px", single: true },
] as const;

/** The columns that need the details of each conversation. */
const detailed = ["packets", "exporters", "clientGroups", "serverGroups", "clientTags", "serverTags"];

export type Extra = (typeof extras)[number]["key"];
export type ExtraCells = Partial<Record<Extra, React.ReactNode>>;

/** The chosen ones, in their order. */
export function useExtras() {
  const { search, change } = useAddress();
  const text = search.get("show") ?? "";
  return useMemo(() => {
    const on = text.split(",");
    return {
      chosen: extras.filter((e) => on.includes(e.key)),
      detail: detailed.some((key) => on.includes(key)),
      toggle: (key: Extra) =>
        change(
          {
            show: extras
              .filter((e) => (e.key === key) !== on.includes(e.key))
              .map((e) => e.key)
              .join(","),
          },
          { replace: true },
        ),
    };
  }, [text, change]);
}

/** Which rows are unfolded is in the address too: the place is never lost. */
export function useUnfolded(key: string) {
  const { search, change } = useAddress();
  const all = search.getAll("open");
  const open = all.includes(key);
  return [
    open,
    () =>
      change(
        { open: open ? all.filter((k) => k !== key && !k.startsWith(`${key}~`)) : [...all, key] },
        { replace: true },
      ),
  ] as const;
}
