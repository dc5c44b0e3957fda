import { describe, expect, it } from "vitest";
import { follow } from "./follow";

const rules = (...texts: string[]) => texts.map((text, i) => ({ line: 10 + i, text, kind: "rule" as const }));

describe("what is selected", () => {
  const first = follow(undefined, 11, rules("a", "b", "c"));
  it("is what stands on the line that was asked for", () => {
    expect(first).toEqual({ asked: 11, line: 11, text: "b" });
    expect(follow(undefined, 99, rules("a"))).toBeUndefined();
    expect(follow(first, undefined, rules("a", "b"))).toBeUndefined();
  });
  it("goes along with its rule at once, and stays until the address has caught up", () => {
    const after = rules("b", "a", "c");
    const moved = follow(first, 11, after);
    expect(moved).toEqual({ asked: 11, line: 10, text: "b" });
    expect(follow(moved, 11, after)).toEqual(moved);
    expect(follow(moved, 10, after)).toEqual({ asked: 10, line: 10, text: "b" });
  });
  it("is another once another line is asked for", () => {
    expect(follow(first, 12, rules("b", "a", "c"))?.text).toBe("c");
  });
  it("stays where it was when its words change", () => {
    expect(follow(first, 11, rules("a", "off b", "c"))).toEqual({ asked: 11, line: 11, text: "off b" });
  });
  it("is the nearest of several alike", () => {
    expect(follow({ asked: 14, line: 14, text: "b" }, 14, rules("b", "a", "c", "b", "x"))?.line).toBe(13);
  });
  it("is nothing when it is gone with its line", () => {
    expect(follow({ asked: 12, line: 12, text: "c" }, 12, rules("a", "b"))).toBeUndefined();
  });
});
