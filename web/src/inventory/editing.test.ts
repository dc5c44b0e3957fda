import { expect, test } from "vitest";
import { chosen, countOf, isSelected } from "./editing";

test("what a filter selects is chosen by the whole filter", () => {
  const e = { ids: [], all: { filter: { q: "booking", tag: ["env=live"], guarded: "none" as const }, count: 12 } };
  expect(chosen(e)).toEqual({ filter: { q: "booking", tag: ["env=live"], guarded: "none" }, count: 12 });
  expect(countOf(e)).toBe(12);
});

test("single workloads are chosen by their ids", () => {
  expect(chosen({ ids: ["w-1", "w-2"] })).toEqual({ workloads: ["w-1", "w-2"] });
  expect(countOf({ ids: ["w-1", "w-2"] })).toBe(2);
});

test("rows are ticked only if they are selected", () => {
  const row = (id: string, env: string) => ({ id, tags: [{ key: "env", value: env }] });
  const list = { tag: [] };
  const misspelt = { ids: [], all: { filter: { tag: ["env=live-"] }, count: 1 } };
  expect(isSelected(misspelt, list, row("w-1", "live-"))).toBe(true);
  expect(isSelected(misspelt, list, row("w-2", "live"))).toBe(false);
  expect(isSelected({ ids: [], all: { filter: list, count: 2 } }, list, row("w-2", "live"))).toBe(true);
  expect(isSelected({ ids: [], all: { filter: { q: "x", tag: [] }, count: 2 } }, list, row("w-2", "live"))).toBe(false);
  expect(isSelected({ ids: ["w-1"] }, list, row("w-1", "live"))).toBe(true);
  expect(isSelected({ ids: ["w-1"] }, list, row("w-2", "live"))).toBe(false);
});
