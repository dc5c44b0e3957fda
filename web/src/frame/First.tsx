// The bare address leads to where the work goes on.
import { Text } from "@chakra-ui/react";
import { Navigate } from "react-router";
import { api } from "../api/client";
import { useCarried } from "./address";
import { goesOn, progress } from "./progress";

export function First() {
  const summary = api.useQuery("get", "/api/v1/summary", {});
  const rollout = api.useQuery("get", "/api/v1/rollout", {});
  const watch = api.useQuery("get", "/api/v1/watch", { params: { query: { period: "day" } } });
  const along = useCarried();
  if (summary.error || rollout.error || watch.error) return <Navigate to={`/check${along}`} replace />;
  if (!summary.data || !rollout.data || !watch.data)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  return <Navigate to={`/${goesOn(progress(summary.data, rollout.data, watch.data))}${along}`} replace />;
}
