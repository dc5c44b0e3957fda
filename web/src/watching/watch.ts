// What the view of watching says, and how it says it.
import type { Schemas } from "../api/client";
import { counted, silent } from "../frame/progress";
import { n, plural } from "../marks/words";

export type Watch = Schemas["WatchOut"];
export type Matter = Schemas["MatterOut"];
export type Period = "hour" | "day" | "week" | "quarter";

export const periods: Period[] = ["hour", "day", "week", "quarter"];

/** How long a bin of a period is, in milliseconds. */
export const binOf: Record<Period, number> = {
  hour: 60_000,
  day: 3_600_000,
  week: 2 * 3_600_000,
  quarter: 24 * 3_600_000,
};

/** Matters that somebody has to look at. */
export const waits = (m: Matter) => m.state === "new" || m.state === "with";

/** A sentence of pieces, as text. */
export const plain = (m: Matter) => m.title.map((p) => p.text).join("");

/** What the headline says of a time. */
export function headline(w: Watch, period: Period) {
  const { held, leaks, chokes, unclear } = w.sum;
  const time = `In the last ${period}`;
  if (counted(w.sum) === 0)
    return {
      time: `No traffic was received in the last ${period}, so nothing can be judged`,
      tried: "",
      through: "",
      calm: "",
    };
  const tried = held ? `${plural(held, "attempt was", "attempts were")} blocked` : "nothing was blocked";
  const quiet = silent(w).length;
  const calm = quiet
    ? `; no leak was seen, but ${plural(quiet, "source is", "sources are")} silent`
    : "; nothing leaked or choked";
  if (!leaks && !chokes && !unclear) return { time, tried, through: "", calm: w.inForce ? calm : "" };
  const parts = [
    leaks ? `${n(leaks)} got through` : "",
    chokes ? `${plural(chokes, "permitted connection was", "permitted connections were")} dropped` : "",
    unclear ? `${n(unclear)} ${unclear === 1 ? "is" : "are"} unclear, because a point changed in that hour` : "",
  ].filter(Boolean);
  return { time, tried, through: parts.join(", and "), calm: "" };
}

/** How long ago something was, in a word or two. */
export function ago(t: string, now = Date.now()) {
  const minutes = Math.round((now - Date.parse(t)) / 60_000);
  if (minutes < 1) return "just now";
  if (minutes < 60) return `${minutes} min ago`;
  const hours = Math.round(minutes / 60);
  if (hours < 24) return `${hours} h ago`;
  const days = Math.round(hours / 24);
  return days === 1 ? "yesterday" : `${days} days ago`;
}

/** The state of a matter in words. */
export function stateWords(m: Matter) {
  switch (m.state) {
    case "with":
      return `with ${m.holder ?? ""}`;
    case "settled":
      return `settled: ${m.note ?? ""}`;
    default:
      return m.ended ? `${m.state}, over` : m.state;
  }
}

/** What became of all connections of a matter's conversations, where some are not what it is about. */
export function became(m: Matter) {
  const other = m.kind === "held" || m.kind === "choke" ? m.carried : m.dropped;
  if (m.standing || !other) return "";
  const parts = [m.dropped ? `${n(m.dropped)} dropped` : "", m.carried ? `${n(m.carried)} carried` : ""].filter(
    Boolean,
  );
  return parts.join(", ");
}

/** What each kind of matter is. */
export const kindWords: Record<string, string> = {
  leak: "rejected, yet carried",
  choke: "permitted, yet dropped",
  held: "dropped, and not permitted",
  newcomer: "a new caller reaches a watched group",
  silence: "a daily caller of a watched group stopped",
  drift: "a point does not run its plan",
  "silent point": "a point no longer reports",
  "silent exporter": "an exporter no longer sends",
  gap: "records of an exporter were lost",
  assertion: "an assertion does not hold",
  member: "a workload joins or leaves a watched group",
  ending: "a rule or an exemption ends within a week",
  destination: "a destination accepts no messages",
};

const verbs: Record<string, string> = {
  leak: "leaks",
  choke: "is choked",
  held: "is blocked",
  newcomer: "comes for the first time",
  silence: "stops coming",
};

/** The members of a group, as an expression. */
export const memberOf = (group: string) => `member of ${/^[a-z][\w-]*$/i.test(group) ? group : JSON.stringify(group)}`;

/** An expression for ends, as short as it is plain: a group by its name. */
const short = (e?: string | null) => (e ?? "").replace(/^member of "?([^"]*)"?$/, "$1");

/** What a filter of the ledger selects, in words: "anything permitted from tier is entry on tcp/443 comes". */
export function trafficWords(filter: string): string {
  const f = new URLSearchParams(filter);
  const verdicts = f.getAll("verdict").map((v) => (v === "permit" ? "permitted" : v === "reject" ? "rejected" : v));
  const [mine, other] = f.get("turn") === "reaches" ? ["from", "to"] : ["to", "from"];
  const ends: Record<string, string[]> = { from: [], to: [] };
  if (f.get("clients")) ends.from!.push(short(f.get("clients")));
  if (f.get("servers")) ends.to!.push(short(f.get("servers")));
  for (const key of ["group", "workload"]) if (f.get(key)) ends[mine!]!.push(f.get(key)!);
  const words = [
    "anything",
    verdicts.join(" or "),
    f.get("odd") && "leaked or choked",
    f.get("outcome") && (f.get("outcome") === "unknown" ? "of unknown outcome" : f.get("outcome")!),
    f.get("new") && "new that day",
    f.get("unsure") && "of uncertain direction",
    f.get("asking") && "without a decision",
    f.get("aside") && "that derivation set aside",
    ends[other!]!.length > 0 && `${other} ${ends[other!]!.join(" and ")}`,
    ends[mine!]!.length > 0 && `${mine} ${ends[mine!]!.join(" and ")}`,
    f.get("for") && `for ${f.get("for")!.replace(":", " ")}`,
    f.get("services") && `on ${f.get("services")}`,
    f.get("q") && `with “${f.get("q")}” in a name`,
    f.has("path") && "on this path of the map",
    f.get("bytes") && `of at least ${f.get("bytes")} bytes`,
  ];
  return `${words.filter(Boolean).join(" ")} comes`;
}

/** A filter of the ledger as notices keep it: without what only says how it is shown. Blank: it selects
    nothing, or by what a notice cannot, such as the line of a rule, which moves with the text. */
export function noticeFilter(filter: string): string {
  const f = new URLSearchParams(filter);
  if (f.has("rule") || f.has("was")) return "";
  for (const key of ["show", "by", "against"]) f.delete(key);
  if (!f.has("path")) for (const key of ["columns", "rows", "allRows"]) f.delete(key);
  if (!f.has("group") && !f.has("workload")) f.delete("turn");
  return f.toString();
}

/** What a notice is about, in words: "anything leaks into protected". */
export function about(
  n: { kinds?: string[]; who?: string; what?: string; matter?: string; filter?: string },
  matter: string,
): string {
  if (n.filter) return trafficWords(n.filter);
  if (n.matter) return matter ? `“${matter}” happens again` : "an earlier matter happens again";
  const who = short(n.who);
  const what = short(n.what);
  const kinds = n.kinds ?? [];
  const words = kinds.length === 0 ? "is the matter" : kinds.map((k) => verbs[k] ?? `is a ${k}`).join(" or ");
  const standing = kinds.length > 0 && kinds.every((k) => !verbs[k]);
  if (standing) return `there is ${kinds.map((k) => `${/^[aeiou]/.test(k) ? "an" : "a"} ${k}`).join(" or ")}`;
  return `anything ${who ? `from ${who} ` : ""}${words}${what ? ` into ${what}` : ""}`;
}

/** atOnce is how many matters are shown until one asks for more. */
export const atOnce = 100;

/** upTo gives the first of a list, and more where the one that is open comes later. */
export function upTo<T extends { id: string }>(list: T[], most: number, open: string | null): T[] {
  return list.slice(0, Math.max(most, list.findIndex((m) => m.id === open) + 1));
}
