import type { KeyboardEvent } from "react";
import type { paths } from "../api/schema";

type Asked = NonNullable<paths["/api/v1/ledger"]["get"]["parameters"]["query"]>;

/** What the ledger is asked, but for the window and the page. */
export type LedgerQuery = Omit<Asked, "from" | "to" | "offset" | "limit">;

/** Arrow keys move between the rows that are shown, however deep. */
export function moveFocus(e: KeyboardEvent<HTMLElement>) {
  if (!["ArrowDown", "ArrowUp", "Home", "End"].includes(e.key)) return;
  if ((e.key === "Home" || e.key === "End") && e.target instanceof HTMLInputElement) return;
  const rows = [...e.currentTarget.querySelectorAll<HTMLElement>("[data-row]")];
  const at = rows.indexOf(document.activeElement as HTMLElement);
  const to = { ArrowDown: at + 1, ArrowUp: at - 1, Home: 0, End: rows.length - 1 }[e.key]!;
  const next = rows[to];
  if (next) {
    e.preventDefault();
    next.focus();
    next.scrollIntoView({ block: "nearest" });
  }
}
