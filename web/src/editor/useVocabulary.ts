import { api } from "../api/client";
import { quote } from "./quote";

/** The words of the language with the keys, values and groups that exist. */
export function useVocabulary(): string[] {
  const facets = api.useQuery("get", "/api/v1/workloads/facets");
  const groups = api.useQuery("get", "/api/v1/groups");
  return [
    ...(facets.data ?? []).flatMap((f) => [f.key, ...f.values.map((v) => quote(v.value))]),
    ...(groups.data ?? []).map((g) => quote(g.name)),
    ..."and or not is in member of address outside any has lacks starts ends contains matches include exclude name id os kind permit reject apart on within same across until log".split(
      " ",
    ),
  ].filter((w, i, all) => all.indexOf(w) === i);
}
