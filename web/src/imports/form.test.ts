import { describe, expect, it } from "vitest";
import { formOf, type ImportReport, nothingToImport } from "./form";

describe("how a file is read", () => {
  it("is as it was said, column by column, else as it was guessed", () => {
    const form = formOf(
      { columns: { a: "src" }, outcomes: { nanu: "unknown" } },
      { delimiter: ";", columns: { a: "dst", b: "dport" } },
    );
    expect(form.columns).toEqual({ a: "src", b: "dport" });
    expect(form.delimiter).toBe(";");
    expect(formOf({ header: undefined, zone: "" }, { header: 3, zone: "UTC" })).toMatchObject({
      header: 3,
      zone: "UTC",
    });
    expect(form.outcomes).toEqual({ nanu: "unknown" });
  });
});

describe("an import of nothing", () => {
  const report = (rows: number, bad: number, held: number) => ({ rows, bad, held }) as ImportReport;
  it("says why", () => {
    expect(nothingToImport(report(0, 0, 0))).toMatch(/no rows/);
    expect(nothingToImport(report(9, 9, 0))).toMatch(/No row is usable/);
    expect(nothingToImport(report(9, 1, 8))).toMatch(/wait for an answer/);
    expect(nothingToImport(report(9, 8, 0))).toBeUndefined();
  });
});
