import { expect, test } from "vitest";
import type { Passage } from "./passages";
import { called, clip, lanesOf, sum, tell, type Terrace, thickness } from "./terraces";

const passage = (clientRow: string, serverRow: string, more: Partial<Passage> = {}) =>
  ({
    clientColumn: "booking",
    serverColumn: "booking",
    clientRow,
    serverRow,
    counts: { permit: 1, reject: 0, uncovered: 0 },
    ...more,
  }) as Passage;
const map = (rows: string[], channels: Passage[]) =>
  ({ rows: rows.map((name) => ({ name })), channels }) as unknown as Terrace;

test("both ways of a pair of rows share a lane", () => {
  const { lanes } = lanesOf(
    map(["entry", "logic"], [passage("entry", "logic"), passage("logic", "entry")]),
    "booking",
    9,
  );
  expect(lanes.map((x) => [x.a, x.b, x.lane, x.ways.length])).toEqual([[0, 1, 0, 2]]);
});

test("what is of another column, or stays in its row, has no lane", () => {
  const other = passage("entry", "logic", { clientColumn: "fares" });
  expect(lanesOf(map(["entry", "logic"], [other, passage("logic", "logic")]), "booking", 9)).toEqual({
    lanes: [],
    left: 0,
  });
});

test("pairs in one lane never overlap, and those without a lane are counted", () => {
  const rows = [..."abcdefgh"];
  const all = rows.flatMap((a) => rows.filter((b) => a < b).map((b) => passage(a, b)));
  for (const most of [1, 3, 99]) {
    const { lanes, left } = lanesOf(map(rows, all), "booking", most);
    expect(lanes.length + left).toBe(all.length);
    for (const x of lanes)
      for (const y of lanes)
        if (x !== y && x.lane === y.lane)
          expect(x.b <= y.a || y.b <= x.a, `${x.a}-${x.b} and ${y.a}-${y.b}`).toBe(true);
    expect(Math.max(...lanes.map((x) => x.lane))).toBeLessThan(most);
  }
});

test("a passage is told by its verdicts, without those that are none", () => {
  const p = passage("a", "b", { counts: { permit: 1200, reject: 0, uncovered: 3 } });
  expect(tell(p)).toBe("1,200 permitted, 3 uncovered");
  expect(sum(p)).toBe(1203);
});

test("lines grow with traffic, up to a bound", () => {
  expect(thickness(10)).toBeGreaterThan(thickness(1));
  expect(thickness(1e12)).toBe(7);
});

test("long names are cut, others are counted", () => {
  expect(clip("boarding-gates", 13)).toBe("boarding-gat…");
  expect(clip("boarding", 13)).toBe("boarding");
  expect(called({ name: "~others", values: 12 })).toBe("12 more");
  expect(called({ name: "fares", values: 1 })).toBe("fares");
});
