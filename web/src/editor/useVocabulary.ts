import { api } from "../api/client";

/** The words of the language with the keys, values and groups that exist. */
export function useVocabulary(): string[] {
  const facets = api.useQuery("get", "/api/workloads/facets");
  const groups = api.useQuery("get", "/api/groups");
  const quote = (v: string) => (/^[A-Za-z0-9_:][A-Za-z0-9_.:/-]*$/.test(v) ? v : JSON.stringify(v));
  return [
    ...(facets.data ?? []).flatMap((f) => [f.key, ...f.values.map((v) => quote(v.value))]),
    ...(groups.data ?? []).map((g) => quote(g.name)),
    ..."and or not is in member of address outside any has lacks starts ends contains matches include exclude name id os kind permit reject apart on within same across until log".split(" "),
  ].filter((w, i, all) => all.indexOf(w) === i);
}
