import { describe, expect, it } from "vitest";
import { subject, versionOf, type Versions } from "./versions";

const v: Versions = { revision: 7, workloads: 2, conversations: 3, probes: 1, other: 9, points: 4, watch: 5 };
const moved = (name: keyof Versions): Versions => ({ ...v, [name]: v[name] + 1 });

describe("the version in a key", () => {
  it("moves with what the answer depends on, and with nothing else", () => {
    const moves = (path: string) =>
      (Object.keys(v) as (keyof Versions)[]).filter((n) => versionOf(path, v, 0) !== versionOf(path, moved(n), 0));
    expect(moves("/api/v1/check")).toEqual(["revision", "workloads", "conversations", "probes", "other", "points"]);
    expect(moves("/api/v1/jobs/{id}")).toEqual(["other"]);
    expect(moves("/api/v1/policy/revisions")).toEqual(["revision"]);
    expect(moves("/api/v1/proposals")).toEqual(["revision", "workloads", "other"]);
    expect(moves("/api/v1/troubles")).toEqual([]);
  });
  it("moves everything when this page asks for it", () => {
    expect(versionOf("/api/v1/troubles", v, 0)).not.toBe(versionOf("/api/v1/troubles", v, 1));
  });
});

describe("what a query is about", () => {
  const of = (path: string, query: Record<string, unknown>) => subject(path, { params: { query } });
  it("stays when only the selection changes", () => {
    expect(of("/ledger", { q: "booking", from: "1" })).toBe(of("/ledger", { q: "fares", from: "2" }));
  });
  it("is another for another name, line or id", () => {
    expect(of("/groups/use", { name: "a" })).not.toBe(of("/groups/use", { name: "b" }));
    expect(of("/assertions/fix", { line: 1 })).not.toBe(of("/assertions/fix", { line: 2 }));
    expect(subject("/workloads/{id}", { params: { path: { id: "a" } } })).not.toBe(
      subject("/workloads/{id}", { params: { path: { id: "b" } } }),
    );
  });

  it("lets what points say touch only what shows it", () => {
    const moved = { ...v, points: 5 };
    for (const path of ["/api/v1/findings", "/api/v1/summary", "/api/v1/workloads/{id}"])
      expect(versionOf(path, moved, 0)).toBe(versionOf(path, v, 0));
    for (const path of [
      "/api/v1/rollout",
      "/api/v1/points/{name}/history",
      "/api/v1/workloads/{id}/points",
      "/api/v1/ledger",
    ])
      expect(versionOf(path, moved, 0)).not.toBe(versionOf(path, v, 0));
  });
});
