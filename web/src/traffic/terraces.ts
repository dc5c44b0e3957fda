// What the terrace map measures and says.
import type { Schemas } from "../api/client";
import type { Verdict } from "../marks/Marks";
import { n } from "../marks/words";
import { type Passage, type Pick, verdicts } from "./passages";

export type Terrace = Schemas["TerraceMap"];
export type Part = { map: Terrace; picked: string[]; pick: Pick };

export const width = 1240;
export const wall = 150; // between two columns, with the names of what passes
export const top = 22; // the strip of what is outside
export const head = 20; // names of the columns
/** By which each of so many terraces is set back. */
export const stepOf = (rows: number) => Math.min(11, 66 / rows);
export const gatesShown = 5;

export const thickness = (v: number) => Math.min(7, 1.2 + Math.log10(v + 1) * 1.5);
export const sum = (p: Passage) => p.counts.permit + p.counts.reject + p.counts.uncovered;
export const short = (v: number) => (v < 10_000 ? n(v) : `${n(v / 1000)}k`);
export const ink: Record<Verdict, string> = { permit: "permit", reject: "reject", uncovered: "open" };

export const clip = (s: string, most = 13) => (s.length > most ? `${s.slice(0, most - 1)}…` : s);

/** What a column or a row is called: of others, how many. */
export const called = (p: { name: string; values: number }) => (p.name === "~others" ? `${n(p.values)} more` : p.name);

export function tell(p: Passage) {
  return verdicts
    .filter((v) => p.counts[v])
    .map((v) => `${n(p.counts[v])} ${v === "permit" ? "permitted" : v === "reject" ? "rejected" : "uncovered"}`)
    .join(", ");
}

export type Lane = { a: number; b: number; lane: number; ways: Passage[] };

/** Traffic between the terraces of one column: each pair of rows, both ways, in
 * a lane that nothing else uses between them; in so many lanes at most, and how
 * many pairs have none. */
export function lanesOf(map: Terrace, column: string, most: number): { lanes: Lane[]; left: number } {
  const rank = new Map(map.rows.map((r, i) => [r.name, i]));
  const pairs = new Map<string, Lane>();
  for (const p of map.channels) {
    const from = rank.get(p.clientRow);
    const to = rank.get(p.serverRow);
    if (p.clientColumn !== column || from === undefined || to === undefined || from === to) continue;
    const a = Math.min(from, to);
    const b = Math.max(from, to);
    const found = pairs.get(`${a} ${b}`);
    if (found) found.ways.push(p);
    else pairs.set(`${a} ${b}`, { a, b, lane: 0, ways: [p] });
  }
  const all = [...pairs.values()].sort((s, t) => s.b - s.a - (t.b - t.a) || s.a - t.a);
  const taken: [number, number][][] = [];
  for (const x of all) {
    while ((taken[x.lane] ?? []).some(([s, t]) => x.b > s && x.a < t)) x.lane++;
    (taken[x.lane] ??= []).push([x.a, x.b]);
  }
  const lanes = all.filter((x) => x.lane < most);
  return { lanes, left: all.length - lanes.length };
}

export const laneWidth = 12;
