import { expect, test } from "vitest";
import { partsOf } from "./pages";

test("a list is read page by page until its total", () => {
  const next = partsOf<{ total: number }>(100).getNextPageParam;
  const page = { total: 250 };
  expect(next(page, [page])).toBe(100);
  expect(next(page, [page, page])).toBe(200);
  expect(next(page, [page, page, page])).toBeUndefined();
});

test("a list that has shrunk meanwhile ends", () => {
  expect(
    partsOf<{ total: number }>(100).getNextPageParam({ total: 80 }, [{ total: 250 }, { total: 80 }]),
  ).toBeUndefined();
});
