import { api, type Schemas } from "../api/client";

export type Notice = Schemas["NoticeOut"];
export type Destination = Schemas["DestinationOut"];

export function useNotices() {
  return api.useQuery("get", "/api/v1/watch/notices");
}
