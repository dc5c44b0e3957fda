// The one way to the server: typed by its OpenAPI document, cached by TanStack
// Query, told of changes by its event stream.
import { QueryClient } from "@tanstack/react-query";
import createFetchClient from "openapi-fetch";
import createClient from "openapi-react-query";
import type { components, paths } from "./schema";

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

export const api = createClient(fetchClient);

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: { staleTime: 60_000, retry: 1, placeholderData: (previous: unknown) => previous },
  },
});

/** What the server says went wrong (RFC 9457), as one sentence. */
export function problem(error: unknown): string {
  if (error && typeof error === "object") {
    const e = error as { detail?: string; title?: string; message?: string };
    return e.detail ?? e.title ?? e.message ?? "the server gave an answer that cannot be read";
  }
  return "the server cannot be reached; is it running?";
}

/**
 * Reads everything again whenever the server says that something has changed.
 * A page that is not shown listens to nothing: browsers allow few connections to
 * one server, and each would hold one. It catches up when it is shown again.
 */
export function followChanges(onLive: (live: boolean) => void): () => void {
  let events: EventSource | undefined;
  let fresh = true; // nothing can have changed since the page was loaded
  let known = ""; // the versions that this page has read
  let timer: ReturnType<typeof setTimeout> | undefined;
  const close = () => {
    events?.close();
    events = undefined;
  };
  const listen = () => {
    if (events || document.visibilityState === "hidden") return;
    events = new EventSource("/api/events");
    events.addEventListener("changed", (e: MessageEvent<string>) => {
      onLive(true);
      if (e.data === known) return;
      known = e.data;
      if (!fresh) {
        clearTimeout(timer);
        timer = setTimeout(() => void queryClient.invalidateQueries(), 80);
      }
      fresh = false;
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
