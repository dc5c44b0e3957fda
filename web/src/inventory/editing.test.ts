import { expect, test } from "vitest";
import { chosen, countOf } from "./editing";

test("what a filter selects is chosen by the whole filter", () => {
  const e = { ids: [], all: { filter: { q: "booking", tag: ["env=live"], guarded: "none" as const }, count: 12 } };
  expect(chosen(e)).toEqual({ filter: { q: "booking", tag: ["env=live"], guarded: "none" }, count: 12 });
  expect(countOf(e)).toBe(12);
});

test("single workloads are chosen by their ids", () => {
  expect(chosen({ ids: ["w-1", "w-2"] })).toEqual({ workloads: ["w-1", "w-2"] });
  expect(countOf({ ids: ["w-1", "w-2"] })).toBe(2);
});
