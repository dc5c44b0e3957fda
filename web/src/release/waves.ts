// How far a release has come, and what the next step is.
import type { Schemas } from "../api/client";

export type RollOut = Schemas["RollOut"];
export type Point = Schemas["PointState"];
export type Release = Schemas["ReleaseOut"];

/** Points that are reached by a release in one step. */
export type Wave = { no: number; points: Point[] };

export function wavesOf(points: Point[]): Wave[] {
  const out: Wave[] = [];
  for (const p of points) {
    const have = out.find((w) => w.no === p.wave);
    if (have) have.points.push(p);
    else out.push({ no: p.wave, points: [p] });
  }
  return out.sort((a, b) => a.no - b.no);
}

export type Stage = "not yet" | "observes" | "enforces" | "mixed";

/** What the points of a wave are to do with a release. */
export function stageOf(w: Wave, release: number): Stage {
  const of = (mode: string) => w.points.filter((p) => p.release === release && p.mode === mode).length;
  if (of("enforce") === w.points.length) return "enforces";
  if (of("observe") === w.points.length) return "observes";
  return of("enforce") + of("observe") === 0 ? "not yet" : "mixed";
}

/** The next step of a roll-out: which wave, and what it is told. */
export type Step = { wave: Wave; mode: "observe" | "enforce" };

/** One wave after another: each observes, then enforces, before the next observes. */
export function nextStep(waves: Wave[], release: number): Step | undefined {
  for (const wave of waves) {
    const stage = stageOf(wave, release);
    if (stage === "enforces") continue;
    const all = wave.points.every((p) => p.release === release);
    return { wave, mode: all ? "enforce" : "observe" };
  }
}

/** Points that are not as they should be, or not heard of. */
export const troubled = (points: Point[]) =>
  points.filter((p) => ["drifted", "refused", "went back", "silent"].includes(p.state) || p.problem);

/** What a point holds, in a few words. */
export function holds(p: Point): string {
  if (p.state === "new") return "never heard of";
  if (p.state === "silent") return `silent; held ${p.held?.release || "nothing"}`;
  const what = p.held?.release ? `holds ${p.held.release}` : "holds nothing";
  if (p.state === "waiting") return `${what}, gets ${p.release ?? "nothing"}…`;
  if (p.state === "holds") return what;
  return `${what}: ${p.state}`;
}
