import { describe, expect, it } from "vitest";
import { bytes, n, percent, plural } from "./words";

describe("numbers as people read them", () => {
  it("say that a sum which stopped may be more", () => {
    const stopped = JSON.parse("9223372036854775807") as number;
    expect(n(stopped)).toMatch(/^at least 9/);
    expect(bytes(stopped)).toMatch(/^at least 9.2 EB$/);
    expect(plural(stopped, "connection")).toMatch(/^at least 9.* connections$/);
    expect(n(2 ** 52)).not.toContain("at least");
    expect(bytes(2 ** 60)).toMatch(/^1.2 EB$/);
  });
  it("say 100 % only of all", () => {
    expect(percent(0.99999)).toMatch(/^99.9 %$/);
    expect(percent(1)).toMatch(/^100.0 %$/);
  });
  it("count one as one", () => {
    expect(plural(1, "batch", "batches")).toBe("1 batch");
    expect(plural(0, "batch", "batches")).toBe("0 batches");
  });
});
