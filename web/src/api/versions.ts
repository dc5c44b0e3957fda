// What a query is about, and which of the server's numbers it depends on.

/** Numbers that grow with every change of what they name, as the server's events tell them. */
export type Versions = {
  revision: number;
  workloads: number;
  conversations: number;
  probes: number;
  other: number;
  points: number;
  watch: number;
};

const ofAll: (keyof Versions)[] = ["revision", "workloads", "conversations", "probes", "other"];

/** What points say moves all the time: only what shows it is read again. */
const withPoints: (keyof Versions)[] = [...ofAll, "points"];

const everything: (keyof Versions)[] = [...withPoints, "watch"];

/** Answers that depend on less than everything; the first beginning that fits counts. */
const dependsOn: [string, (keyof Versions)[]][] = [
  ["/watch/counters", ["conversations", "revision", "points"]],
  ["/watch", ["watch", "points", "other"]],
  ["/evidence", ["other", "revision"]],
  ["/evidence-schedules", ["other"]],
  ["/rollout", withPoints],
  ["/points", withPoints],
  ["/exemptions", ["workloads", "points"]],
  ["/releases", withPoints],
  ["/check", withPoints], // leaks go by what points held
  ["/ledger", withPoints],
  ["/workloads/{id}/points", withPoints],
  ["/jobs", ["other"]],
  ["/selections", ["other"]],
  ["/tokens", ["other"]],
  ["/retention", ["other"]],
  ["/service-ports", ["other"]],
  ["/refused-batches", ["other"]],
  ["/exporters", ["other"]],
  ["/troubles", []],
  ["/sources", ["workloads", "other"]],
  ["/disagreements", ["workloads"]],
  ["/vocabulary", ["workloads", "other"]],
  ["/workloads", ["workloads", "revision", "conversations"]],
  ["/suggestions", ["workloads", "conversations", "other"]],
  ["/proposals", ["revision", "workloads", "other"]],
  ["/policy/revisions/{no}/restore", ofAll],
  ["/policy/revisions", ["revision"]],
  ["/assertions/fix", ofAll],
  ["/assertions", ["revision", "workloads"]],
];

/** How far versions have come. */
export function since(now: Versions, first: Versions): Versions {
  const out = { ...now };
  for (const n of everything) out[n] = now[n] - first[n];
  return out;
}

/** The part of a query's key that changes when its answer may have. */
export function versionOf(path: string, v: Versions, local: number): string {
  const below = path.replace(/^\/api\/v\d+/, "");
  const names = dependsOn.find(([start]) => below === start || below.startsWith(start + "/"))?.[1] ?? ofAll;
  return [local, ...names.map((n) => v[n])].join(".");
}

/** Members of a query that say which thing it is about; the others select, sort and shape. */
const naming = ["name", "line", "client", "server", "first", "service", "near", "far", "as", "at", "id", "choice"];

type Asked = { params?: { path?: Record<string, unknown>; query?: Record<string, unknown> } } | undefined;

/** Which thing a query is about: what was read of another must not be shown for it. */
export function subject(path: string, init: Asked): string {
  const q = init?.params?.query ?? {};
  return JSON.stringify([path, init?.params?.path ?? {}, naming.map((n) => q[n] ?? null)]);
}
