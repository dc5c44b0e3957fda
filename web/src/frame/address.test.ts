import { describe, expect, it } from "vitest";
import { carried, read, write, type Subject } from "./address";

describe("what the why panel shows, in the address", () => {
  const subjects: Subject[] = [
    { kind: "flow", client: "10.0.0.1", server: "fd00::1", service: "tcp/443", at: undefined },
    { kind: "flow", client: "10.0.0.1", server: "10.0.0.2", service: "icmp/8.0", at: "2026-11-20T10:00:00Z" },
    { kind: "workload", id: "wl~with~tildes" },
    { kind: "rule", line: 42 },
  ];
  it("is read back as it was written", () => {
    for (const s of subjects) expect(read(write(s))).toEqual(s);
  });
  it("is nothing where the address is nonsense", () => {
    for (const text of ["", "flow~a", "rule~x", "rule~0", "workload~", "colour~red"])
      expect(read(text)).toBeUndefined();
  });
});

describe("what goes along from view to view", () => {
  it("is the window and nothing else", () => {
    expect(carried(new URLSearchParams("from=2026-11-20T00:00:00Z&tag=env%3Dlive&to=2026-11-21T00:00:00Z"))).toBe(
      "?from=2026-11-20T00%3A00%3A00Z&to=2026-11-21T00%3A00%3A00Z",
    );
    expect(carried(new URLSearchParams("why=rule~3"))).toBe("");
  });
});
