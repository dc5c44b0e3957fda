import { expect, test } from "vitest";
import { type Passage, pathOf, pathWords, placeName } from "./passages";

test("a way is said as it is taken", () => {
  const p = { clientColumn: "booking", clientRow: "entry", serverColumn: "fares", serverRow: "store" } as Passage;
  expect(pathOf(p)).toBe("booking|entry|fares|store");
  expect(pathWords(pathOf(p))).toBe("booking entry → fares store");
});

test("what has no place is named", () => {
  expect(pathWords("~outside||booking|")).toBe("outside → booking");
  expect(pathWords("||~nowhere|")).toBe("anywhere → without a plot");
  expect(placeName("~others")).toBe("others");
});
