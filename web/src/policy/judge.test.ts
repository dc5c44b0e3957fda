import { describe, expect, it } from "vitest";
import { choiceAt, rankProposals, type Proposal } from "./judge";

const proposal = (key: string, more: Partial<Proposal> = {}) =>
  ({ id: 1, key, barred: false, own: 0, choices: [{ sentence: key }], ...more }) as unknown as Proposal;

describe("the choice of a proposal", () => {
  const p = proposal("p", {
    own: 2,
    choices: ["narrower", "narrow", "p", "wide"].map((sentence) => ({ sentence })),
  } as Partial<Proposal>);
  it("is the proposal itself, until somebody steps", () => {
    expect(choiceAt(p, undefined)).toBe(2);
    expect(choiceAt(p, 3)).toBe(3);
  });
  it("stays among those that there are", () => {
    expect(choiceAt(p, 9)).toBe(3);
    expect(choiceAt(p, -1)).toBe(0);
  });
});

describe("what is still to be judged", () => {
  it("has what waits last, what is too wide before it, and nothing that was refused", () => {
    const refused = proposal("refused", { refused: { reason: "no" } } as Partial<Proposal>);
    const again = proposal("again", { refused: { reason: "no" }, again: true } as Partial<Proposal>);
    const { judged, refused: out } = rankProposals(
      [proposal("later"), proposal("wide", { barred: true }), refused, proposal("one"), again],
      ["later"],
    );
    expect(judged.map((p) => p.key)).toEqual(["one", "again", "wide", "later"]);
    expect(out.map((p) => p.key)).toEqual(["refused"]);
  });
});
