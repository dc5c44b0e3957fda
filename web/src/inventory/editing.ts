import type { Schemas } from "../api/client";

export type Filter = { q?: string; tag: string[]; retired?: boolean; guarded?: Guarded };

/** How enforcement points guard a workload, in the words of the address. */
export const guardings = {
  both: "guarded on both sides",
  server: "guarded only as a server",
  client: "guarded only as a client",
  none: "guarded by no point",
  exempt: "exempt from all points",
} as const;
export type Guarded = keyof typeof guardings;

/** What is selected, by id or as all that a filter selects, and the tag that is set on it. */
export type Editing = {
  ids: string[];
  all?: { filter: Filter; count: number };
  key?: string;
  value?: string;
  was?: string;
};

type Tagged = { id: string; tags: { key: string; value: string }[] };

/** Whether a row of a list with a filter is selected. All that another filter selects may not be in
    the list; a row is known to be if that filter is of tags alone, and the row has them. */
export function isSelected(e: Editing, list: Filter, w: Tagged): boolean {
  if (!e.all) return e.ids.includes(w.id);
  const { q, tag, guarded, retired } = e.all.filter;
  if (JSON.stringify(e.all.filter) === JSON.stringify(list)) return true;
  if (q || guarded || retired) return false;
  return tag.every((t) => w.tags.some((x) => `${x.key}=${x.value}` === t));
}

export const countOf = (e: Editing) => e.all?.count ?? e.ids.length;

export function chosen(e: Editing): Pick<Schemas["SetTagsInputBody"], "workloads" | "filter" | "count"> {
  if (!e.all) return { workloads: e.ids };
  const { q, tag, guarded } = e.all.filter;
  return { filter: { q, tag, guarded }, count: e.all.count };
}
