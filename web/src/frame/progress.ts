// How far the work has come, step by step: each from figures that were read, never assumed.
import type { Schemas } from "../api/client";
import { n, plural } from "../marks/words";
import { troubled } from "../releasing/waves";

/** Nothing was begun; something is left to do; nothing is left to do now. */
export type State = "nothing" | "begun" | "done";

export interface StepOfWork {
  path: string;
  name: string;
  state: State;
  /** The figure of the step. */
  fact: string;
  /** What is left to do. */
  need: string;
}

export const stateWords: Record<State, string> = { nothing: "not begun", begun: "begun", done: "done for now" };

const article = (key: string | undefined) => (key ? `${/^[aeiou]/.test(key) ? "an" : "a"} ${key}` : "");

/** All connections that a sum of the watch counts. */
export const counted = (s: Omit<Schemas["WatchBin"], "at">) =>
  s.permitted + s.uncovered + s.held + s.leaks + s.chokes + s.unclear;

/** Matters of exporters and points that do not report: what they would have reported is unknown. */
export const silent = (w: Schemas["WatchOut"]) =>
  w.matters.filter((m) => (m.kind === "silent exporter" || m.kind === "silent point") && !m.ended);

function watched(w: Schemas["WatchOut"]): string {
  const drifted = w.matters.filter((m) => m.kind === "drift" && !m.ended).length;
  if (w.sum.leaks) return `${n(w.sum.leaks)} leaked`;
  if (w.sum.chokes) return `${n(w.sum.chokes)} choked`;
  if (drifted) return `${n(drifted)} drifted`;
  const quiet = silent(w).length;
  if (quiet) return `${n(quiet)} silent`;
  if (w.sum.unclear) return `${n(w.sum.unclear)} unclear`;
  if (counted(w.sum) === 0) return "no traffic in 24 h";
  return w.inForce ? "no leaks" : "nothing in force";
}

/** The steps of the work, in order. Watch is of the last day. */
export function progress(s: Schemas["Summary"], r: Schemas["RollOut"], w: Schemas["WatchOut"]): StepOfWork[] {
  const state = (nothing: boolean, left: boolean): State => (nothing ? "nothing" : left ? "begun" : "done");
  const look = troubled(r.points).length;
  const newest = r.releases[0];
  const everywhere = r.points.length > 0 && newest?.enforced === r.points.length;
  return [
    {
      path: "workloads",
      name: "Workloads",
      state: state(s.workloads === 0, s.lack > 0),
      fact: n(s.workloads),
      need: s.lack ? `${n(s.lack)} lack ${article(s.lackKey)}` : "",
    },
    {
      path: "groups",
      name: "Groups",
      state: state(s.groups === 0, s.undecided > 0),
      fact: n(s.groups),
      need: s.undecided ? `${n(s.undecided)} with undecided` : "",
    },
    {
      path: "flows",
      name: "Flows",
      state: state(s.conversations === 0, false),
      fact: plural(s.conversations, "conversation"),
      need: "",
    },
    {
      path: "policy",
      name: "Policy",
      state: state(s.rules === 0, s.proposals > 0),
      fact: plural(s.rules, "rule"),
      need: s.proposals ? plural(s.proposals, "proposal") : "",
    },
    {
      path: "check",
      name: "Check",
      state: state(s.conversations === 0 || s.rules === 0, s.uncovered > 0),
      fact: !s.conversations ? "nothing to check" : s.uncovered ? "" : "all decided",
      need: s.uncovered ? `${n(s.uncovered)} uncovered` : "",
    },
    {
      path: "release",
      name: "Release",
      state: state(!newest, look > 0 || !everywhere || !newest?.same),
      fact: r.inForce ? `${r.inForce} in force` : newest ? `${newest.no} not enforced` : "no release",
      need: look ? `${n(look)} to look at` : newest && !newest.same ? "draft differs" : "",
    },
    {
      path: "watch",
      name: "Watch",
      state: state(counted(w.sum) === 0 && w.open === 0, w.open > 0),
      fact: watched(w),
      need: w.open ? plural(w.open, "matter") : "",
    },
  ];
}

/** Where the work goes on: the first step that was not begun. While Check has something left to
    decide, nothing after it is the next step. */
export function goesOn(steps: StepOfWork[]): string {
  const check = steps.findIndex((x) => x.path === "check");
  const upTo = steps[check]?.state === "begun" ? steps.slice(0, check) : steps;
  return upTo.find((x) => x.state === "nothing")?.path ?? "check";
}
