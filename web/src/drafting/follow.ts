import type { Schemas } from "../api/client";

/** The rule that is selected: its words, where it stands, and the line by which it was asked for. */
export type Held = { asked: number; line: number; text: string };

type Line = Pick<Schemas["StatementOut"], "line" | "text" | "kind">;

/**
 * Gives the rule that is selected now. Lines move with every edit, so what was asked for by
 * a line goes by its words from then on: the nearest, if there are several. One whose words
 * have changed is still where it was. A line that was asked for since is another choice.
 */
export function follow(held: Held | undefined, asked: number | undefined, statements: Line[]): Held | undefined {
  if (asked === undefined) return undefined;
  const at = (line: number) => statements.find((s) => s.line === line);
  const from = held?.asked === asked ? held : undefined;
  const here = at(from?.line ?? asked);
  if (from && here?.text !== from.text) {
    const same = statements.filter((s) => s.kind === "rule" && s.text === from.text);
    const [near] = same.sort((a, b) => Math.abs(a.line - from.line) - Math.abs(b.line - from.line));
    if (near) return { asked, line: near.line, text: near.text };
  }
  return here && { asked, line: here.line, text: here.text };
}
