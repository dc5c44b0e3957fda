// What the draft is compared with: a revision that was chosen, none, or else what is in
// force.
import { api } from "../api/client";
import { useAddress, useWindow } from "../frame/address";

/** The value of the address's "against" that asks for no comparison. */
export const alone = "none";

export type Against = { revision?: number; release?: number; chosen: boolean };

/** By default, the release in force, where the draft says something else. */
export function useAgainst(): Against {
  const { search } = useAddress();
  const w = useWindow();
  const { data: r } = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const { data: s } = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const asked = search.get("against");
  const nameOf = (revision: number) => r?.releases.find((x) => x.revision === revision)?.no;
  if (asked === alone) return { chosen: true };
  if (Number(asked)) return { revision: Number(asked), release: nameOf(Number(asked)), chosen: true };
  const held = r?.releases.find((x) => x.no === r.inForce);
  if (!held || !s || held.same) return { chosen: false };
  return { revision: held.revision, release: held.no, chosen: false };
}

/** How what is compared with is called. */
export const called = (a: Against) => (a.release ? `release ${a.release}` : `revision ${a.revision}`);
