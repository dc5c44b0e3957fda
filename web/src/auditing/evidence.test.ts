import { describe, expect, it } from "vitest";
import { lasted, period, promised, timeUTC, usualPeriods } from "./evidence";

describe("periods", () => {
  it("are named by their first and last day, in UTC", () => {
    expect(period("2026-11-01T00:00:00Z", "2026-12-01T00:00:00Z")).toBe("1 Nov 2026 to 30 Nov 2026");
    expect(period("2026-11-01T00:00:00Z", "2026-11-01T09:30:00Z")).toBe("1 Nov 2026");
  });
  it("are offered as months and quarters, over a turn of the year", () => {
    const all = usualPeriods(new Date("2026-02-10T08:00:00Z"));
    const of = (word: string) => all.find((p) => p.word === word)!;
    expect(of("14 days")).toMatchObject({ from: "2026-01-28", to: "2026-02-10" });
    expect(of("last month")).toMatchObject({ from: "2026-01-01", to: "2026-01-31" });
    expect(of("this quarter")).toMatchObject({ from: "2026-01-01", to: "2026-02-10" });
    expect(of("last quarter")).toMatchObject({ from: "2025-10-01", to: "2025-12-31" });
  });
});

describe("words", () => {
  it("say how long something lasted", () => {
    expect(lasted("2026-11-01T00:00:00Z", "2026-11-01T00:00:20Z")).toBe("less than a minute");
    expect(lasted("2026-11-01T00:00:00Z", "2026-11-01T00:42:00Z")).toBe("42 minutes");
    expect(lasted("2026-11-01T00:00:00Z", "2026-11-01T07:10:00Z")).toBe("7 hours");
    expect(lasted("2026-11-01T00:00:00Z", "2026-11-05T07:10:00Z")).toBe("4 days");
  });
  it("say instants in UTC and promises in short", () => {
    expect(timeUTC("2026-11-01T09:05:00Z")).toBe("1 Nov 2026 09:05 UTC");
    expect(promised("assert only a -> b on any")).toBe("only a -> b on any");
    expect(promised("group stores")).toBe("who reaches stores");
  });
});
