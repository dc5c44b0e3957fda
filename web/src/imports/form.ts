// How a file is read, as it was said and guessed.
import type { Schemas } from "../api/client";

export type Form = Schemas["Form"];
export type ImportReport = Schemas["ImportReport"];

/** How the file is read: what was said, else what was guessed. */
export function formOf(said: Form, guessed: Form | undefined): Form {
  const clear = Object.fromEntries(Object.entries(said).filter(([, v]) => v !== undefined && v !== ""));
  return {
    ...guessed,
    ...clear,
    columns: { ...guessed?.columns, ...said.columns },
    outcomes: { ...guessed?.outcomes, ...said.outcomes },
    protocols: { ...guessed?.protocols, ...said.protocols },
  };
}

/** Why an import would store nothing; undefined: it would not. */
export function nothingToImport(r: ImportReport): string | undefined {
  if (r.rows === 0) return "The file has no rows.";
  if (r.rows > r.bad + r.held) return undefined;
  return r.held > r.bad ? "All rows wait for an answer, below." : "No row is usable this way. The reasons are below.";
}
