// The address of the page holds the whole state: the window, what is selected,
// and what each view adds.
import { useCallback, useMemo } from "react";
import { useSearchParams } from "react-router";

export type Params = Record<string, string | string[] | undefined | null>;

/** Reads the address and changes parts of it; empty values are taken out. */
export function useAddress() {
  const [search, setSearch] = useSearchParams();
  const change = useCallback(
    (changes: Params, options: { replace?: boolean } = {}) =>
      setSearch(
        () => {
          // The address itself, not what was last drawn: two changes in quick
          // succession both count.
          const next = new URLSearchParams(window.location.search);
          for (const [k, v] of Object.entries(changes)) {
            next.delete(k);
            for (const one of Array.isArray(v) ? v : [v]) {
              if (one) next.append(k, one);
            }
          }
          return next;
        },
        { replace: options.replace },
      ),
    [setSearch],
  );
  return { search, change };
}

/** The window that all views speak of. */
export function useWindow(): { from?: string; to?: string } {
  const { search } = useAddress();
  const from = search.get("from") ?? undefined;
  const to = search.get("to") ?? undefined;
  return useMemo(() => ({ from, to }), [from, to]);
}

/** The part of the address that goes along from view to view. */
export function useCarried(): string {
  const { search } = useAddress();
  return carried(search);
}

export function carried(search: URLSearchParams): string {
  const next = new URLSearchParams();
  for (const k of ["from", "to"]) {
    const v = search.get(k);
    if (v) next.set(k, v);
  }
  const s = next.toString();
  return s ? `?${s}` : "";
}

/** What the why panel explains: a conversation, a workload or a rule. */
export type Subject =
  | { kind: "flow"; client: string; server: string; service: string; at?: string }
  | { kind: "workload"; id: string }
  | { kind: "rule"; line: number };

export function useWhy() {
  const { search, change } = useAddress();
  const text = search.get("why");
  const subject = useMemo(() => (text ? read(text) : undefined), [text]);
  const show = useCallback((s: Subject | undefined) => change({ why: s ? write(s) : undefined }), [change]);
  return { subject, show };
}

export function write(s: Subject): string {
  switch (s.kind) {
    case "flow":
      return ["flow", s.client, s.server, s.service, s.at ?? ""].join("~");
    case "workload":
      return `workload~${s.id}`;
    case "rule":
      return `rule~${s.line}`;
  }
}

export function read(text: string): Subject | undefined {
  const [kind, ...rest] = text.split("~");
  if (kind === "flow" && rest.length >= 3) {
    return { kind, client: rest[0]!, server: rest[1]!, service: rest[2]!, at: rest[3] || undefined };
  }
  if (kind === "workload" && rest[0]) return { kind, id: rest.join("~") };
  if (kind === "rule" && Number(rest[0]) > 0) return { kind, line: Number(rest[0]) };
  return undefined;
}
