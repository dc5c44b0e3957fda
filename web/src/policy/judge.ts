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
  return { judged: [...open].sort((a, b) => rank(a) - rank(b)), refused: here.filter((p) => p.refused && !p.again) };
}

/** Which of the choices of a proposal stands there, of what was stepped to before. */
export function choiceAt(p: Proposal, stepped: number | undefined): number {
  return Math.min(p.choices.length - 1, Math.max(0, stepped ?? p.own));
}
