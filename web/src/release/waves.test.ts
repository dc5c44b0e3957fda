import { expect, test } from "vitest";
import {
  behind,
  holds,
  lately,
  nextStep,
  type Point,
  type Wave,
  type RollOut,
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
    point("a", 1, { release: 2, mode: "enforce" }),
    point("b", 1, { release: 2, mode: "observe" }),
    point("new", 1, { mode: "off" }),
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

test("what a point holds is said in a few words", () => {
  const held = { release: 3, mode: "enforce", lately: { seconds: 60, permit: 9, reject: 2, uncovered: 0 } };
  expect(holds(point("a", 1, { held } as Partial<Point>))).toBe("holds 3");
  expect(holds(point("a", 1, { held, state: "drifted" } as Partial<Point>))).toBe("holds 3: drifted");
  expect(holds(point("a", 1, { state: "new", kind: "file" } as Partial<Point>))).toBe("nothing was fetched yet");
  expect(lately(point("a", 1, { held } as Partial<Point>))).toBe("dropped 2 attempts in the last minute");
  expect(lately(point("a", 1, { held, state: "silent" } as Partial<Point>))).toBe("");
  expect(troubled([point("a", 1), point("b", 1, { state: "silent" })]).map((p) => p.name)).toEqual(["b"]);
});
