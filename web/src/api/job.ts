// A piece of long work on the server, followed until it has ended.
import { api } from "./client";

/** How far a job is, and how it ended; nothing without a number. */
export function useJob(id: number | undefined) {
  return api.useQuery(
    "get",
    "/api/v1/jobs/{id}",
    { params: { path: { id: id ?? 0 } } },
    {
      enabled: id !== undefined,
      staleTime: 0,
      refetchInterval: (q) => (q.state.data?.state === "running" || !q.state.data ? 300 : false),
    },
  );
}
