// What rows of the ledger are settled by.
import type { Schemas } from "../api/client";

export type How = "permit" | "reject" | "rightly";

/** What is pointed at: below a row of the ledger, or one conversation. */
export type Target = {
  words: string;
  near?: string;
  far?: string;
  service?: string; // none: all that the filters leave
  client?: string;
  server?: string;
  first?: string;
  counts: { permit: number; reject: number; uncovered: number };
};

/** What a row of the ledger stands for. */
export const targetOf = (row: Schemas["LedgerRow"], turned: boolean): Target => ({
  words: turned
    ? `${row.label} to all that it reaches on ${row.service}`
    : `all callers of ${row.label} on ${row.service}`,
  near: row.key,
  service: row.service,
  counts: row.counts,
});
