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

/** Reads everything again whenever the server says that something has changed. */
export function followChanges(onLive: (live: boolean) => void): () => void {
  const events = new EventSource("/api/events");
  let first = true;
  let timer: ReturnType<typeof setTimeout> | undefined;
  events.addEventListener("changed", () => {
    onLive(true);
    if (first) {
      first = false;
      return;
    }
    clearTimeout(timer);
    timer = setTimeout(() => void queryClient.invalidateQueries(), 80);
  });
  events.onerror = () => onLive(false);
  return () => {
    clearTimeout(timer);
    events.close();
  };
}
