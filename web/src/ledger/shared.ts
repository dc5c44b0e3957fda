import type { KeyboardEvent } from "react";
import type { Verdict } from "../marks/Marks";

/** What the ledger is asked. */
export type LedgerQuery = {
  verdict?: Verdict[];
  odd?: boolean;
  turn?: "reached" | "reaches";
  q?: string;
  rule?: number;
  group?: string;
  workload?: string;
  against?: number;
  was?: Verdict[];
  clients?: string;
  servers?: string;
  services?: string;
  outcome?: "" | "carried" | "dropped" | "unknown";
  bytes?: number;
  new?: boolean;
  unsure?: boolean;
  by?: string;
  columns?: string;
  rows?: string;
  path?: string[];
};

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
