// The newest derivation, what of it is still to be judged, and what can be done.
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, fetchClient, problem, queryClient, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { rankProposals, type Choice, type Proposal } from "./judge";

export { choicesOf, type Choice, type Proposal } from "./judge";
export type Derived = Schemas["Derived"];

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
  const jobs = api.useQuery("get", "/api/jobs", {}, { enabled: runs, refetchInterval: runs ? 400 : false });
  const now = jobs.data?.find((j) => j.id === job?.id) ?? job;
  const over = runs && now?.state !== "running";
  useEffect(() => {
    if (over) ended();
    // Asked at each answer until the result is there, not at each rendering.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [over, jobs.dataUpdatedAt]);
  return runs && !over ? now : undefined;
}

export function useJudging() {
  const w = useWindow();
  const { search, change } = useAddress();
  const list = api.useQuery("get", "/api/proposals", {});
  const running = useRunning(list.data?.job, () => void list.refetch());
  const derive = api.useMutation("post", "/api/derive");
  const takeOut = api.useMutation("post", "/api/proposals/take");
  const refuseOut = api.useMutation("post", "/api/proposals/refuse");
  const [later, setLater] = useKept("judge later");
  const d = list.data?.derived;
  const asked = Number(search.get("balance") ?? d?.balance ?? 0.5);
  const point = d?.path.find((p) => p.balance === asked) ?? d?.path.find((p) => p.balance === d.balance);
  const byId = new Map((d?.proposals ?? []).map((p) => [p.id, p]));
  const here = [...(point?.ids ?? []).flatMap((k) => byId.get(k) ?? []), ...(d?.wide ?? [])];
  const isWide = (p: Proposal) => !!d?.wide.includes(p);
  const { judged, refused } = rankProposals(here, d?.wide ?? [], later);

  const guard = async (f: () => Promise<unknown>, done?: string) => {
    try {
      await f();
      if (done) say(done);
    } catch (e) {
      say(problem(e), "error");
    }
    await queryClient.invalidateQueries();
  };
  const refuseOne = (p: Proposal, reason: string, instead?: string) => refuseOut.mutateAsync({ body: { rule: p.key, reason, instead, conversations: p.conversations, callers: p.callerCount } });
  return {
    list, d, point, judged, refused, later, isWide,
    running,
    run: (scope: { group?: string; area?: string }) => guard(() => derive.mutateAsync({ params: { query: { ...w, balance: d?.balance ?? 0.5, ...scope } } })),
    move: (balance: number) => change({ balance: String(balance) }, { replace: true }),
    take: (ps: { p: Proposal; choice: Choice }[]) =>
      guard(
        async () => {
          await takeOut.mutateAsync({ params: { query: w }, body: { texts: ps.map((x) => x.choice.text) } });
          // What was narrowed is judged: it does not ask again for the rest, until the
          // narrower rule goes.
          for (const { p, choice } of ps) if (choice.words) await refuseOne(p, `taken ${choice.words}`, choice.sentence);
        },
        ps.length === 1 ? `Taken: ${ps[0]!.choice.sentence}` : `Taken: ${ps.length} proposals, undone in one step`,
      ),
    refuse: (ps: Proposal[], reason: string) =>
      guard(async () => {
        for (const p of ps) await refuseOne(p, reason);
      }, ps.length === 1 ? "Refused; it stays refused" : `Refused: ${ps.length} proposals`),
    again: (p: Proposal) => guard(() => refuseOut.mutateAsync({ body: { rule: p.key, reason: "", again: true } }), "To be judged again"),
    postpone: (p: Proposal) => setLater([...later.filter((k) => k !== p.key), p.key]),
    guard,
  };
}

/** What taking texts would do, before it is done. */
export function useConsequences(texts: string[], on: boolean) {
  const w = useWindow();
  return useQuery({
    queryKey: ["consequences of taking", texts, w],
    enabled: on && texts.length > 0,
    placeholderData: undefined,
    queryFn: async () => {
      const { data, error } = await fetchClient.POST("/api/proposals/take", { params: { query: { ...w, dryRun: true } }, body: { texts } });
      if (error) throw error;
      return data;
    },
  });
}

/** The conversations that a text would newly permit. */
export function useEvidence(text: string, on: boolean) {
  const w = useWindow();
  return useQuery({
    queryKey: ["evidence", text, w],
    enabled: on,
    queryFn: async () => {
      const { data, error } = await fetchClient.POST("/api/proposals/evidence", { params: { query: { ...w, limit: 100 } }, body: { text } });
      if (error) throw error;
      return data;
    },
  });
}
