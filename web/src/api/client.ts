// The one way to the server: typed by its OpenAPI document, cached by TanStack
// Query, told of changes by its event stream.
import { QueryClient } from "@tanstack/react-query";
import createFetchClient from "openapi-fetch";
import createClient from "openapi-react-query";
import { useSyncExternalStore } from "react";
import type { components, paths } from "./schema";
import { since, subject, versionOf, type Versions } from "./versions";

export type Schemas = components["schemas"];

const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));

/** A key that no other request has. */
function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, "0")).join("");
}

/**
 * Sends a request. One that changes something carries a key, so that it is safe
 * to send it again where nobody knows whether the first one arrived: the server
 * stores it once.
 */
export async function send(asked: Request | (() => Request)): Promise<Response> {
  const key = newKey();
  const next = () => {
    const r = typeof asked === "function" ? asked() : asked.clone();
    r.headers.set("Idempotency-Key", key);
    return r;
  };
  if (typeof asked !== "function" && (asked.method === "GET" || asked.method === "HEAD")) return fetch(asked);
  for (let wait = 400; ; wait *= 2) {
    const request = next();
    try {
      const answer = await fetch(request);
      if (answer.status !== 503 || wait > 4000) return answer;
    } catch (e) {
      if (wait > 4000 || request.signal.aborted) throw e;
    }
    await pause(wait);
  }
}

export const fetchClient = createFetchClient<paths>({
  baseUrl: window.location.origin,
  fetch: send,
  querySerializer: { array: { style: "form", explode: true } },
});

const plain = createClient(fetchClient);

// How far the server's versions have come since this page was loaded, and how often
// it has asked for everything itself.
let known: Versions = { revision: 0, workloads: 0, conversations: 0, probes: 0, other: 0, points: 0, watch: 0 };
let local = 0;
const watching = new Set<() => void>();

function learn(change: () => void) {
  change();
  for (const f of [...watching]) f();
}

/** Follows the version of what a path answers. */
function useVersion(path: string): string {
  return useSyncExternalStore(
    (f) => {
      watching.add(f);
      return () => watching.delete(f);
    },
    () => versionOf(path, known, local),
  );
}

type Init = { params?: { path?: Record<string, unknown>; query?: Record<string, unknown> } } | undefined;

/** Shows the former answer until the next one is there, if it is about the same thing. */
function former(path: string, init: Init) {
  return (previous: unknown, query?: { queryKey: readonly unknown[] }) => {
    const [, before, asked] = query?.queryKey ?? [];
    return before === path && subject(path, asked as Init) === subject(path, init) ? previous : undefined;
  };
}

/**
 * Queries are keyed by the versions of what they depend on: when an event tells of
 * a new one, what depends on it is read once, and nothing else.
 */
export const api = {
  useMutation: plain.useMutation,
  useQuery: ((method: "get", path: never, init?: object, options?: object) => {
    const version = useVersion(path);
    return plain.useQuery(
      method,
      path,
      { ...init, version } as never,
      { placeholderData: former(path, init), ...options } as never,
    );
  }) as unknown as typeof plain.useQuery,
  useInfiniteQuery: ((method: "get", path: never, init: object, options: object) => {
    const version = useVersion(path);
    return plain.useInfiniteQuery(
      method,
      path,
      { ...init, version, pages: true } as never,
      { placeholderData: former(path, init), ...options } as never,
    );
  }) as unknown as typeof plain.useInfiniteQuery,
};

export const queryClient = new QueryClient({
  defaultOptions: { queries: { staleTime: 60_000, gcTime: 120_000, retry: 1 } },
});

/** What edits change: traffic and matters come by themselves all the time. */
const edited: (keyof Versions)[] = ["revision", "workloads", "probes", "other", "points"];

/**
 * After a change that this page has made: waits until an event tells of it, and not of
 * something else. Where none comes, because the page is not connected, everything is read
 * again.
 */
export async function caughtUp(of: (keyof Versions)[] = edited): Promise<void> {
  const before = known;
  const told = await new Promise<boolean>((done) => {
    const timer = setTimeout(() => over(false), 700);
    const over = (came: boolean) => {
      clearTimeout(timer);
      watching.delete(listener);
      done(came);
    };
    const listener = () => {
      if (of.some((name) => known[name] !== before[name])) over(true);
    };
    watching.add(listener);
  });
  if (!told) learn(() => local++);
}

/** What the server says went wrong (RFC 9457), as one sentence. */
export function problem(error: unknown): string {
  if (error && typeof error === "object") {
    const e = error as { detail?: string; title?: string; message?: string };
    return e.detail ?? e.title ?? e.message ?? "the server gave an answer that cannot be read";
  }
  return "the server cannot be reached; is it running?";
}

/** The versions when the server gave this page; where it was not the server, nobody knows. */
function atStart(): Versions | undefined {
  const told = document.querySelector<HTMLMetaElement>("meta[name=versions]")?.content;
  return told ? (JSON.parse(told) as Versions) : undefined;
}

/**
 * Learns of new versions whenever the server says that something has changed.
 * A page that is not shown listens to nothing: browsers allow few connections to
 * one server, and each would hold one. It catches up when it is shown again.
 */
export function followChanges(onLive: (live: boolean) => void): () => void {
  let events: EventSource | undefined;
  let first = atStart();
  let last = ""; // what was told last
  let timer: ReturnType<typeof setTimeout> | undefined;
  const close = () => {
    events?.close();
    events = undefined;
  };
  // Traffic comes all the time: what hangs on it is read again every two seconds at most.
  let traffic = 0;
  const take = (next: Versions) => {
    const wait = traffic + 2000 - Date.now();
    const other = next.conversations !== known.conversations;
    if (other && wait > 0) timer = setTimeout(() => take(next), wait);
    else if (other) traffic = Date.now();
    learn(() => (known = other && wait > 0 ? { ...next, conversations: known.conversations } : next));
  };
  const listen = () => {
    if (events || document.visibilityState === "hidden") return;
    events = new EventSource("/api/v1/events");
    events.addEventListener("changed", (e: MessageEvent<string>) => {
      onLive(true);
      if (e.data === last) return;
      last = e.data;
      const now = JSON.parse(last) as Versions;
      first ??= now;
      const start = first;
      clearTimeout(timer);
      timer = setTimeout(() => take(since(now, start)), 40);
    });
    events.onerror = () => onLive(false);
  };
  const seen = () => (document.visibilityState === "hidden" ? close() : listen());
  document.addEventListener("visibilitychange", seen);
  window.addEventListener("pagehide", close);
  window.addEventListener("pageshow", listen);
  listen();
  return () => {
    clearTimeout(timer);
    close();
    document.removeEventListener("visibilitychange", seen);
    window.removeEventListener("pagehide", close);
    window.removeEventListener("pageshow", listen);
  };
}
