// The one way to the server: typed by its OpenAPI document, cached by TanStack
// Query, told of changes by its event stream.
import { QueryClient } from "@tanstack/react-query";
import createFetchClient from "openapi-fetch";
import createClient from "openapi-react-query";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

export const fetchClient = createFetchClient<paths>({
  baseUrl: window.location.origin,
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
  let timer: ReturnType<typeof setTimeout> | undefined;
  const close = () => {
    events?.close();
    events = undefined;
  };
  const listen = () => {
    if (events || document.visibilityState === "hidden") return;
    events = new EventSource("/api/events");
    events.addEventListener("changed", () => {
      onLive(true);
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
