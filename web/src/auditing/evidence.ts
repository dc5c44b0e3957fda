// What evidence says, in words and marks.
import type { Schemas } from "../api/client";

export type Evidence = Schemas["Evidence"];
export type Day = Schemas["Day"];
export type State = Day["state"];
export type Kept = Schemas["EvidenceKept"];

/** The states of a day, the worst first, with what each means. */
export const states: { state: State; word: string; means: string }[] = [
  { state: "broken", word: "broken", means: "for some time, the policy in force broke the promise" },
  { state: "leaked", word: "leaked", means: "points carried something that they should have dropped" },
  { state: "open", word: "open", means: "the policy in force left some of it uncovered" },
  { state: "undefined", word: "unknown", means: "the policy in force lacked its groups" },
  { state: "none", word: "not in force", means: "for some time, no release was in force there" },
  { state: "partly", word: "not everywhere", means: "not all of it was enforced all day" },
  { state: "unknown", word: "hours unknown", means: "some hours have no traffic at all" },
  { state: "held", word: "kept", means: "in force and enforced all day, and nothing leaked" },
];

export const wordOf = (s: State) => states.find((x) => x.state === s)!.word;

const date = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric", timeZone: "UTC" });
const time = new Intl.DateTimeFormat("en-GB", {
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
  timeZone: "UTC",
});

/** A day, and an instant, as evidence has them: in UTC, wherever it is read. */
export const dayUTC = (t: string) => date.format(new Date(t));
export const timeUTC = (t: string) => `${time.format(new Date(t)).replace(",", "")} UTC`;

/** An instant in UTC, under a heading that says so. */
export const inUTC = (t: string) =>
  time
    .format(new Date(t))
    .replace(",", "")
    .replace(/ 20\d\d/, "");

/** The days of a period, whose end is before `to`. */
export const period = (from: string, to: string) => {
  const last = new Date(Date.parse(to) - 1000).toISOString();
  return dayUTC(from) === dayUTC(last) ? dayUTC(from) : `${dayUTC(from)} to ${dayUTC(last)}`;
};

/** How long something lasted, in the largest unit that says it well. */
export function lasted(from: string, until: string) {
  const minutes = Math.round((Date.parse(until) - Date.parse(from)) / 60000);
  if (minutes < 1) return "less than a minute";
  if (minutes < 120) return minutes === 1 ? "a minute" : `${minutes} minutes`;
  if (minutes < 48 * 60) return `${Math.round(minutes / 60)} hours`;
  return `${Math.round(minutes / 60 / 24)} days`;
}

/** The promise as a short name. */
export const promised = (text: string) => text.replace(/^assert /, "").replace(/^group /, "who reaches ");

export type Month = { from: string; to: string; word: string };

/** Periods that are asked for most: the last 14 days, this and the last month and quarter. */
export function usualPeriods(today: Date): Month[] {
  const iso = (d: Date) => d.toISOString().slice(0, 10);
  const utc = (y: number, m: number, d: number) => new Date(Date.UTC(y, m, d));
  const [y, m, d] = [today.getUTCFullYear(), today.getUTCMonth(), today.getUTCDate()];
  const quarter = m - (m % 3);
  return [
    { word: "14 days", from: iso(utc(y, m, d - 13)), to: iso(today) },
    { word: "this month", from: iso(utc(y, m, 1)), to: iso(today) },
    { word: "last month", from: iso(utc(y, m - 1, 1)), to: iso(utc(y, m, 0)) },
    { word: "this quarter", from: iso(utc(y, quarter, 1)), to: iso(today) },
    { word: "last quarter", from: iso(utc(y, quarter - 3, 1)), to: iso(utc(y, quarter, 0)) },
  ];
}
