import { describe, expect, it } from "vitest";
import { choiceAt, folded, rankProposals, type Proposal } from "./judge";

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

describe("the order of what is judged", () => {
  it("begins with what settles most", () => {
    const all = [3, 40, 7].map((open) => proposal(`${open}`, { open } as Partial<Proposal>));
    expect(rankProposals(all, []).judged.map((p) => p.key)).toEqual(["40", "7", "3"]);
  });
});

describe("proposals of one shape", () => {
  const of = (shape: string, ...keys: string[]) => keys.map((k) => proposal(k, { shape } as Partial<Proposal>));
  const keys = (list: Proposal[]) => folded(list).map((f) => f.list.map((p) => p.key).join(" "));
  it("fold into one where there are three, at the place of the first", () => {
    const web = (key: string) => proposal(key, { shape: "web" } as Partial<Proposal>);
    expect(keys([web("a"), proposal("x"), web("b"), proposal("y"), web("c")])).toEqual(["a b c", "x", "y"]);
  });
  it("stay apart where there are two, or of another shape", () => {
    expect(keys([...of("web", "a", "b"), ...of("store", "c", "d")])).toEqual(["a", "b", "c", "d"]);
  });
  it("are each there once, however they fold", () => {
    const all = [...of("web", "a", "b", "c"), proposal("x"), ...of("store", "d", "e", "f", "g")];
    expect(
      folded(all)
        .flatMap((f) => f.list)
        .map((p) => p.key)
        .sort(),
    ).toEqual(all.map((p) => p.key).sort());
  });
});
