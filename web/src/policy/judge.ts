// How proposals are ordered, and what can be taken of each.
import type { Schemas } from "../api/client";

export type Proposal = Schemas["ProposalOut"];

/** What is taken of a proposal: itself, or one that is narrower or wider. */
export type Choice = { words?: string; sentence: string; text: string; opened: number; conversations: number };

/** From narrow over the proposal itself to wide, with where it stands. */
export function choicesOf(p: Proposal): { all: Choice[]; own: number } {
  const own: Choice = { sentence: p.rule.sentence, text: p.text, opened: p.opened, conversations: p.conversations };
  return { all: [...[...p.narrower].reverse(), own, ...p.wider], own: p.narrower.length };
}

/** What is still to be judged, in its order, and what was refused. */
export function rankProposals(here: Proposal[], wide: Proposal[], later: string[]): { judged: Proposal[]; refused: Proposal[] } {
  const rank = (p: Proposal) => (later.includes(p.key) ? 2 : wide.includes(p) ? 1 : 0);
  const open = here.filter((p) => !p.refused || p.again);
  return { judged: [...open].sort((a, b) => rank(a) - rank(b)), refused: here.filter((p) => p.refused && !p.again) };
}
