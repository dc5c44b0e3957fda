import { describe, expect, it } from "vitest";
import { choicesOf, rankProposals, type Proposal } from "./judge";

const proposal = (key: string, more: Partial<Proposal> = {}) =>
  ({ id: key, key, rule: { sentence: key }, text: key, opened: 10, conversations: 5, narrower: [], wider: [], ...more }) as unknown as Proposal;

describe("the choices of a proposal", () => {
  it("go from narrow over itself to wide", () => {
    const alternative = (words: string) => ({ words, sentence: words, text: words, opened: 1, conversations: 1 });
    const p = proposal("p", { narrower: [alternative("narrow"), alternative("narrower")], wider: [alternative("wide")] } as Partial<Proposal>);
    const { all, own } = choicesOf(p);
    expect(all.map((c) => c.sentence)).toEqual(["narrower", "narrow", "p", "wide"]);
    expect(own).toBe(2);
    expect(all[own]!.words).toBeUndefined();
  });
});

describe("what is still to be judged", () => {
  it("has what waits last, what is too wide before it, and nothing that was refused", () => {
    const wide = proposal("wide");
    const refused = proposal("refused", { refused: { reason: "no" } } as Partial<Proposal>);
    const again = proposal("again", { refused: { reason: "no" }, again: true } as Partial<Proposal>);
    const { judged, refused: out } = rankProposals([proposal("later"), wide, refused, proposal("one"), again], [wide], ["later"]);
    expect(judged.map((p) => p.key)).toEqual(["one", "again", "wide", "later"]);
    expect(out.map((p) => p.key)).toEqual(["refused"]);
  });
});
