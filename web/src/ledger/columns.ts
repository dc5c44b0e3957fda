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

/** What can stand beside the columns that are always there. */
export const extras = [
  { key: "connections", head: "Connections", w: "84px" },
  { key: "bytes", head: "Bytes", w: "70px" },
  { key: "first", head: "First seen", w: "124px" },
  { key: "last", head: "Last seen", w: "124px" },
  { key: "rules", head: "Lines", w: "84px" },
] as const;

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
