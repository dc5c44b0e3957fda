import type { KeyboardEvent } from "react";
import type { paths } from "../api/schema";

type Asked = NonNullable<paths["/api/v1/ledger"]["get"]["parameters"]["query"]>;

/** What the ledger is asked, but for the window and the page. */
export type LedgerQuery = Omit<Asked, "from" | "to" | "offset" | "limit">;

/** Arrow keys move between the rows that are shown, however deep. */
export function moveFocus(e: KeyboardEvent<HTMLElement>) {
  if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
  const rows = [...e.currentTarget.querySelectorAll<HTMLElement>("[data-row]")];
  const at = rows.indexOf(document.activeElement as HTMLElement);
  const next = rows[at + (e.key === "ArrowDown" ? 1 : -1)];
  if (next) {
    e.preventDefault();
    next.focus();
    next.scrollIntoView({ block: "nearest" });
  }
}
