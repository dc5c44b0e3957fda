import { describe, expect, it } from "vitest";
import { holds, nextStep, type Point, stageOf, troubled, wavesOf } from "./waves";

const point = (name: string, wave: number, release?: number, mode = "off", more: Partial<Point> = {}): Point =>
  ({ name, wave, release, mode, state: "holds", workloads: 1, ...more }) as Point;

describe("a roll-out", () => {
  it("goes wave by wave: each observes, then enforces", () => {
    const points = [point("c", 3), point("a", 1), point("b", 2), point("b2", 2)];
    const step = () => nextStep(wavesOf(points), 7);
    const told = (names: string[], mode: string) => {
      for (const p of points)
        if (names.includes(p.name)) {
          p.release = 7;
          p.mode = mode as Point["mode"];
        }
    };
    const seen: string[] = [];
    for (let s = step(); s; s = step()) {
      seen.push(`${s.wave.no} ${s.mode}`);
      told(
        s.wave.points.map((p) => p.name),
        s.mode,
      );
    }
    expect(seen).toEqual(["1 observe", "1 enforce", "2 observe", "2 enforce", "3 observe", "3 enforce"]);
  });

  it("lets a point that lags behind in its wave observe first", () => {
    const points = [point("a", 1, 7, "enforce"), point("b", 1, 6, "enforce")];
    expect(stageOf(wavesOf(points)[0]!, 7)).toBe("mixed");
    expect(nextStep(wavesOf(points), 7)?.mode).toBe("observe");
  });
});

describe("a point", () => {
  it("says what it holds", () => {
    const held = { release: 6 } as Point["held"];
    expect(holds(point("a", 1, 7, "observe", { state: "waiting", held }))).toBe("holds 6, gets 7…");
    expect(holds(point("a", 1, 6, "observe", { state: "drifted", held }))).toBe("holds 6: drifted");
    expect(holds(point("a", 1, undefined, "off", { state: "new" }))).toBe("never heard of");
  });

  it("is in trouble if it is not as it should be", () => {
    const states = ["new", "waiting", "holds", "refused", "drifted", "went back", "silent"] as const;
    const all = states.map((state) => point(state, 1, 1, "observe", { state }));
    expect(troubled(all).map((p) => p.name)).toEqual(["refused", "drifted", "went back", "silent"]);
  });
});
