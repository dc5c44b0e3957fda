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

/** How a release runs somewhere. */
export const modeOf = (x: { enforces: number; observes: number } | undefined, release: number) =>
  x && release ? (x.enforces === release ? "enforce" : x.observes === release ? "observe" : "off") : "off";

/** The points that a step is for: those that are as far already keep what they run. */
export const behind = ({ wave, mode }: Step, release: number) =>
  wave.of.filter((p) => {
    const how = modeOf(p, release);
    return how === "off" || (mode === "enforce" && how !== "enforce");
  });

/** The conditions that still block a wave. */
export const unmet = (w: Wave) => w.conditions.filter((c) => c.asked && !c.met);

/** Points that are not as they should be, or not heard of. */
export const troubled = (points: Point[]) =>
  points.filter((p) => ["drifted", "refused", "went back", "ahead", "silent"].includes(p.state) || p.problem);

/** The releases that a point runs: "enforces 6, observes 7". */
export function runs(x: { enforces: number; observes: number } | undefined): string {
  const parts = [x?.enforces && `enforces ${x.enforces}`, x?.observes && `observes ${x.observes}`].filter(Boolean);
  return parts.join(", ") || "runs nothing";
}

/** The state of a point in a few words. */
export function stateOf(p: Point): string {
  if (p.state === "new") return p.kind === "file" ? "nothing fetched yet" : "never connected";
  if (p.state === "silent") return `silent; last ${runs(p.held)}`;
  if (p.state === "waiting") return `${runs(p.held)}; loads: ${runs(p)}…`;
  if (p.state === "holds") return runs(p.held);
  return `${runs(p.held)}: ${p.state}`;
}

/** When what a point has loaded was last read back: "read 4 s ago". */
export function readBack(p: Point): string {
  const read = p.held?.read ?? -1;
  if (p.kind === "file" || read < 0 || !p.heard || p.state === "silent" || p.state === "new") return "";
  const ago = Math.max(0, Math.round(read + (Date.now() - Date.parse(p.heard)) / 1000));
  return ago < 120 ? `read back ${ago} s ago` : `read back ${Math.round(ago / 60)} min ago`;
}

/** The releases that the points of a wave enforce, other than one. */
export const enforcedBeside = (points: Point[], release: number) =>
  [...new Set(points.map((p) => p.held?.enforces ?? 0))].filter((x) => x && x !== release).sort((a, b) => a - b);

/** What a point did of late, in a few words; blank: nothing that anybody would ask about. */
export function lately(p: Point): string {
  const l = p.held?.lately;
  if (!l || !l.seconds || runs(p.held) === "runs nothing" || p.state === "silent" || l.reject === 0) return "";
  return `${p.held?.enforces ? "dropped" : "would have dropped"} ${plural(l.reject, "attempt")} in the last minute`;
}
