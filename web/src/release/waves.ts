// How far a release has come, and what the next step is.
import type { Schemas } from "../api/client";
import { plural } from "../marks/words";

export type RollOut = Schemas["RollOut"];
export type Point = Schemas["PointState"];
export type Release = Schemas["ReleaseOut"];
export type WaveState = Schemas["WaveState"];
export type Condition = Schemas["Condition"];

/** Points that are reached by a release in one step, with what is asked before they enforce. */
export type Wave = WaveState & { of: Point[] };

export const wavesOf = (r: RollOut): Wave[] =>
  r.waves.map((w) => ({ ...w, of: r.points.filter((p) => p.wave === w.no) }));

/** What a wave is called. */
export const nameOf = (w: { no: number; title: string }) => (w.title ? `${w.no} ${w.title}` : `Wave ${w.no}`);

/** The next step of a roll-out: which wave, and what it is told. */
export type Step = { wave: Wave; mode: "observe" | "enforce" };

/** One wave after another: each observes, then enforces, before the next observes. */
export function nextStep(waves: Wave[]): Step | undefined {
  for (const wave of waves) {
    if (wave.stage === "enforces") continue;
    return { wave, mode: wave.stage === "observes" ? "enforce" : "observe" };
  }
}

/** The points that a step is for: who enforces the release already does not go back to observing it. */
export const behind = ({ wave, mode }: Step, release: number) =>
  wave.of.filter((p) => p.release !== release || (mode === "enforce" && p.mode !== "enforce"));

/** What a wave waits for. */
export const unmet = (w: Wave) => w.conditions.filter((c) => c.asked && !c.met);

/** Points that are not as they should be, or not heard of. */
export const troubled = (points: Point[]) =>
  points.filter((p) => ["drifted", "refused", "went back", "silent"].includes(p.state) || p.problem);

/** What a point holds, in a few words. */
export function holds(p: Point): string {
  if (p.state === "new") return p.kind === "file" ? "nothing was fetched yet" : "never heard of";
  if (p.state === "silent") return `silent; held ${p.held?.release || "nothing"}`;
  const what = p.held?.release ? `holds ${p.held.release}` : "holds nothing";
  if (p.state === "waiting") return `${what}, gets ${p.release ?? "nothing"}…`;
  if (p.state === "holds") return what;
  return `${what}: ${p.state}`;
}

/** What a point did of late, in a few words; blank: nothing that anybody would ask about. */
export function lately(p: Point): string {
  const l = p.held?.lately;
  if (!l || !l.seconds || !p.held?.release || p.state === "silent" || l.reject === 0) return "";
  return `${p.held.mode === "enforce" ? "dropped" : "would have dropped"} ${plural(l.reject, "attempt")} in the last minute`;
}
