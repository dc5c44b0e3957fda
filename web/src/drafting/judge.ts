// How proposals are ordered, and what can be taken of each.
import type { Schemas } from "../api/client";

export type Proposal = Schemas["ProposalOut"];
export type Judgement = Schemas["Judgement"];
/** What is taken of a proposal: itself, or one that is narrower or wider. */
export type Choice = Schemas["Choice"];

/** What is still to be judged, in its order, and what was refused. */
export function rankProposals(here: Proposal[], later: string[]): { judged: Proposal[]; refused: Proposal[] } {
  const rank = (p: Proposal) => (later.includes(p.key) ? 2 : p.barred ? 1 : 0);
  const open = here.filter((p) => !p.refused || p.again);
  // What settles most comes first.
  const judged = [...open].sort((a, b) => rank(a) - rank(b) || b.open - a.open);
  return { judged, refused: here.filter((p) => p.refused && !p.again) };
}

/** Which of the choices of a proposal stands there, of what was stepped to before. */
export function choiceAt(p: Proposal, stepped: number | undefined): number {
  return Math.min(p.choices.length - 1, Math.max(0, stepped ?? p.own));
}

/** A proposal, or several that say the same of other applications. */
export type Fold = { shape?: string; list: Proposal[] };

const foldFrom = 3;

/** Folds proposals of one shape into one, where there are several; it stands where the first of them stood. */
export function folded(shown: Proposal[]): Fold[] {
  const sizes = new Map<string, number>();
  for (const p of shown) if (p.shape) sizes.set(p.shape, (sizes.get(p.shape) ?? 0) + 1);
  const made = new Map<string, Fold>();
  const out: Fold[] = [];
  for (const p of shown) {
    if (!p.shape || (sizes.get(p.shape) ?? 0) < foldFrom) {
      out.push({ list: [p] });
      continue;
    }
    const have = made.get(p.shape);
    if (have) have.list.push(p);
    else {
      const fold = { shape: p.shape, list: [p] };
      made.set(p.shape, fold);
      out.push(fold);
    }
  }
  return out;
}
