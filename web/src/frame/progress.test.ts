import { expect, test } from "vitest";
import type { Schemas } from "../api/client";
import { goesOn, progress } from "./progress";

const sum = { permitted: 0, uncovered: 0, held: 0, leaks: 0, chokes: 0, unclear: 0 };
const summary = (over: object = {}) =>
  ({
    workloads: 0,
    lack: 0,
    groups: 0,
    undecided: 0,
    conversations: 0,
    rules: 0,
    proposals: 0,
    ...over,
  }) as Schemas["Summary"];
const rollout = (over: object = {}) =>
  ({ points: [], releases: [], inForce: 0, ...over }) as unknown as Schemas["RollOut"];
const watch = (over: object = {}, of: object = {}) =>
  ({ matters: [], open: 0, inForce: 0, sum: { ...sum, ...of }, ...over }) as unknown as Schemas["WatchOut"];
const full = { workloads: 9, groups: 3, conversations: 40, rules: 5, decided: 1, uncovered: 0 };

test("an empty estate begins with workloads, and nothing is done", () => {
  const steps = progress(summary(), rollout(), watch());
  expect(steps.map((s) => s.state)).toEqual(Array(7).fill("nothing"));
  expect(goesOn(steps)).toBe("workloads");
  expect(steps[6]!.fact).toBe("no traffic in 24 h");
});

test("the address leads to the first step that was not begun", () => {
  expect(goesOn(progress(summary({ workloads: 9 }), rollout(), watch()))).toBe("groups");
  expect(goesOn(progress(summary({ workloads: 9, groups: 2 }), rollout(), watch()))).toBe("flows");
  expect(goesOn(progress(summary(full), rollout(), watch()))).toBe("release");
  expect(goesOn(progress(summary({ ...full, uncovered: 9 }), rollout(), watch()))).toBe("check");
  const all = progress(summary(full), rollout({ releases: [{ no: 1 }] }), watch({}, { permitted: 3 }));
  expect(goesOn(all)).toBe("check");
});

test("a step is done when nothing is left to do", () => {
  const of = (s: object) => progress(summary({ ...full, ...s }), rollout(), watch()).map((x) => x.state);
  expect(of({})).toEqual(["done", "done", "done", "done", "done", "nothing", "nothing"]);
  expect(of({ lack: 1, undecided: 1, proposals: 1, uncovered: 1 }).slice(0, 5)).toEqual([
    "begun",
    "begun",
    "done",
    "begun",
    "begun",
  ]);
  const points = [{ name: "a", state: "holds" }];
  const release = (r: object) => progress(summary(full), rollout({ points, ...r }), watch())[5]!;
  expect(release({ releases: [{ no: 1, enforced: 1, same: true }], inForce: 1 }).state).toBe("done");
  expect(release({ releases: [{ no: 1, enforced: 0, same: true }] })).toMatchObject({
    state: "begun",
    fact: "1 not enforced",
  });
  expect(release({ releases: [{ no: 2, enforced: 1, same: false }], inForce: 2 })).toMatchObject({
    state: "begun",
    need: "draft differs",
  });
});

test("watch does not reassure without traffic, or while a point has drifted", () => {
  const fact = (w: Schemas["WatchOut"]) => progress(summary(full), rollout(), w)[6]!.fact;
  expect(fact(watch({ inForce: 1 }))).toBe("no traffic in 24 h");
  expect(fact(watch({ inForce: 1 }, { permitted: 5 }))).toBe("no leaks");
  expect(fact(watch({}, { permitted: 5 }))).toBe("nothing in force");
  expect(fact(watch({ inForce: 1, matters: [{ kind: "drift" }] }, { permitted: 5 }))).toBe("1 drifted");
  expect(fact(watch({ inForce: 1, matters: [{ kind: "drift", ended: "2026-11-20T00:00:00Z" }] }, { held: 5 }))).toBe(
    "no leaks",
  );
  expect(fact(watch({ inForce: 1, matters: [{ kind: "silent point" }] }, { permitted: 5 }))).toBe("1 silent");
  expect(fact(watch({ inForce: 1, matters: [{ kind: "drift" }] }, { leaks: 2 }))).toBe("2 leaked");
});
