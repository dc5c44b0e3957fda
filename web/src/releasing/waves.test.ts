import { expect, test } from "vitest";
import {
  behind,
  enforcedBeside,
  lately,
  nextStep,
  type Point,
  type Wave,
  type RollOut,
  runs,
  stateOf,
  troubled,
  unmet,
  wavesOf,
} from "./waves";

const point = (name: string, wave: number, more: Partial<Point> = {}) =>
  ({ name, wave, state: "holds", ...more }) as Point;
const wave = (no: number, stage: string, conditions: Wave["conditions"] = []) =>
  ({ no, stage, conditions, title: "", points: [] }) as unknown as Wave;

test("points stand in their waves", () => {
  const points = [point("b", 2), point("a", 1), point("c", 2)];
  const waves = wavesOf({ points, waves: [wave(1, "not yet"), wave(2, "not yet")] } as unknown as RollOut);
  expect(waves.map((w) => w.of.map((p) => p.name))).toEqual([["a"], ["b", "c"]]);
});

test("each wave observes, then enforces, before the next one observes", () => {
  const step = (...stages: string[]) => {
    const s = nextStep(stages.map((stage, i) => wave(i + 1, stage)));
    return s && `${s.wave.no} ${s.mode}`;
  };
  expect(step("not yet", "not yet")).toBe("1 observe");
  expect(step("observes", "not yet")).toBe("1 enforce");
  expect(step("enforces", "not yet")).toBe("2 observe");
  expect(step("enforces", "observes")).toBe("2 enforce");
  expect(step("enforces", "enforces")).toBeUndefined();
});

test("a point that comes later does not take the others back to observing", () => {
  const of = [
    point("a", 1, { enforces: 2, observes: 0 }),
    point("b", 1, { enforces: 1, observes: 2 }),
    point("new", 1, { enforces: 0, observes: 0 }),
  ];
  const names = (mode: "observe" | "enforce") =>
    behind({ wave: { ...wave(1, "not yet"), of }, mode }, 2).map((p) => p.name);
  expect(names("observe")).toEqual(["new"]);
  expect(names("enforce")).toEqual(["b", "new"]);
});

test("a wave waits for what is asked and not so", () => {
  const c = (asked: boolean, met: boolean) => ({ key: "asserts", words: "", asked, met }) as Wave["conditions"][number];
  expect(unmet(wave(1, "observes", [c(true, true), c(false, false), c(true, false)]))).toHaveLength(1);
});

test("the state of a point is said in a few words", () => {
  const held = { enforces: 3, observes: 4, lately: { seconds: 60, permit: 9, reject: 2, uncovered: 0, reported: 2 } };
  const at = (more: object) => point("a", 1, { held, ...more } as unknown as Partial<Point>);
  expect(stateOf(at({}))).toBe("enforces 3, observes 4");
  expect(stateOf(at({ state: "drifted" }))).toBe("enforces 3, observes 4: drifted");
  expect(stateOf(at({ state: "waiting", enforces: 4, observes: 0 }))).toBe(
    "enforces 3, observes 4; loads: enforces 4…",
  );
  expect(stateOf(point("a", 1, { state: "new", kind: "file" } as Partial<Point>))).toBe("nothing fetched yet");
  expect(runs({ enforces: 0, observes: 0 })).toBe("runs nothing");
  expect(enforcedBeside([at({}), at({})], 4)).toEqual([3]);
  expect(enforcedBeside([at({})], 3)).toEqual([]);
  expect(lately(at({}))).toBe("dropped 2 attempts in the last minute");
  expect(lately(at({ state: "silent" }))).toBe("");
  expect(troubled([point("a", 1), point("b", 1, { state: "silent" })]).map((p) => p.name)).toEqual(["b"]);
});
