// The newest derivation, what of it is still to be judged, and what can be done.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, fetchClient, problem, caughtUp, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { rankProposals, type Choice, type Judgement, type Proposal } from "./judge";

export { choiceAt, type Choice, type Judgement, type Proposal } from "./judge";
export type Derived = Schemas["DerivedOut"];

/** Keeps a list for as long as the tab is open. */
function useKept(name: string) {
  const [list, set] = useState<string[]>(() => JSON.parse(sessionStorage.getItem(name) ?? "[]") as string[]);
  return [
    list,
    (next: string[]) => {
      sessionStorage.setItem(name, JSON.stringify(next));
      set(next);
    },
  ] as const;
}

/** How far a derivation is, as long as it runs. Only the list of jobs is asked for again and
 *  again, which has no results in it; `ended` is called to fetch those once. */
function useRunning(job: Schemas["Job"] | undefined, ended: () => void) {
  const runs = job?.state === "running";
  const jobs = api.useQuery("get", "/api/v1/jobs", {}, { enabled: runs, refetchInterval: runs ? 400 : false });
  const now = jobs.data?.find((j) => j.id === job?.id) ?? job;
  const over = runs && now?.state !== "running";
  useEffect(() => {
    if (over) ended();
    // Asked at each answer until the result is there, not at each rendering.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [over, jobs.dataUpdatedAt]);
  return runs && !over ? now : undefined;
}

export function useJudging(revision: number) {
  const w = useWindow();
  const { search, change } = useAddress();
  const list = api.useQuery("get", "/api/v1/proposals", {});
  const running = useRunning(list.data?.job, () => void list.refetch());
  const derive = api.useMutation("post", "/api/v1/derive");
  const judgeOut = api.useMutation("post", "/api/v1/proposals/judge");
  const [later, setLater] = useKept("judge later");
  const d = list.data?.derived;
  const asked = Number(search.get("balance") ?? d?.balance ?? 0.5);
  const point = d?.path.find((p) => p.balance === asked) ?? d?.path.find((p) => p.balance === d.balance);
  const byId = new Map((d?.proposals ?? []).map((p) => [p.id, p]));
  const at = (balance: number | undefined) => [
    ...(d?.path.find((p) => p.balance === balance)?.ids ?? []).flatMap((k) => byId.get(k) ?? []),
    ...(d?.proposals.filter((p) => p.barred) ?? []),
  ];
  const { judged, refused } = rankProposals(at(point?.balance), later);

  const guard = async (f: () => Promise<unknown>, done?: string) => {
    try {
      await f();
      if (done) say(done);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  const judge = (judgements: Judgement[], done: string, together = false) =>
    guard(() => judgeOut.mutateAsync({ params: { query: w }, body: { revision, judgements, together } }), done);
  return {
    list,
    d,
    point,
    judged,
    /** How many are to be judged at the balance that was derived for. */
    derivedFor: rankProposals(at(d?.balance), []).judged.length,
    /** How many are to be judged at a balance. */
    left: (balance: number) => rankProposals(at(balance), []).judged.length,
    refused,
    later,
    running,
    run: (scope: { group?: string; area?: string }) =>
      guard(() => derive.mutateAsync({ params: { query: { ...w, balance: d?.balance ?? 0.5, ...scope } } })),
    move: (balance: number) => change({ balance: String(balance) }, { replace: true }),
    take: (ps: Taken[]) =>
      judge(
        taking(ps),
        ps.length === 1 ? `Took ${chosen(ps[0]!).sentence}` : `Took ${ps.length} proposals; one undo reverts all`,
      ),
    takeAsOne: (ps: Taken[]) => judge(taking(ps), `Took one rule in place of ${ps.length}; one undo reverts it`, true),
    refuse: (ps: Proposal[], reason: string) =>
      judge(
        ps.map((p) => ({ proposal: p.id, do: "refuse", reason })),
        ps.length === 1 ? "Refused" : `Refused ${ps.length} proposals; one undo reverts all`,
      ),
    again: (p: Proposal) => judge([{ proposal: p.id, do: "again" }], "Open again"),
    postpone: (p: Proposal) => setLater([...later.filter((k) => k !== p.key), p.key]),
    guard,
  };
}

/** A proposal with which of its choices is taken. */
export type Taken = { p: Proposal; at: number };

export const chosen = ({ p, at }: Taken): Choice => p.choices[at]!;

const taking = (ps: Taken[]): Judgement[] => ps.map(({ p, at }) => ({ proposal: p.id, do: "take", choice: at }));

/** What taking proposals would do, before it is done. */
export function useConsequences(ps: Taken[], revision: number, on: boolean, together = false) {
  const w = useWindow();
  const judgements = taking(ps);
  return useQuery({
    queryKey: ["consequences of taking", judgements, together, revision, w],
    enabled: on && ps.length > 0,
    queryFn: async () => {
      const { data, error } = await fetchClient.POST("/api/v1/proposals/judge", {
        params: { query: { ...w, dryRun: true } },
        body: { revision, judgements, together },
      });
      if (error) throw error;
      return data;
    },
  });
}

/** The conversations that a choice of a proposal would newly permit. */
export function useEvidence({ p, at }: Taken, revision: number, on: boolean) {
  const w = useWindow();
  return useQuery({
    queryKey: ["evidence", p.id, at, revision, w],
    enabled: on,
    queryFn: async () => {
      const { data, error } = await fetchClient.GET("/api/v1/proposals/{id}/evidence", {
        params: { path: { id: p.id }, query: { ...w, limit: 100, choice: at } },
      });
      if (error) throw error;
      return data;
    },
  });
}
