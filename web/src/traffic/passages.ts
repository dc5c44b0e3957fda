// What the terrace map and its table share.
import type { Schemas } from "../api/client";
import type { Verdict } from "../marks/Marks";

export type Passage = Schemas["PassageOut"];

/** Chooses ways over the map, of all verdicts or of one. */
export type Pick = (paths: string[], verdict?: Verdict) => void;

export const verdicts: Verdict[] = ["permit", "reject", "uncovered"];

/** A way as the API takes it: column and row of the client, and of the server. */
export const pathOf = (p: Passage) => [p.clientColumn, p.clientRow, p.serverColumn, p.serverRow].join("|");

export const columnsOf = (m: Schemas["TerraceMap"]) => m.columns.map((c) => c.name);

const unnamed: Record<string, string> = {
  "~outside": "outside",
  "~nowhere": "without a plot",
  "~others": "others",
};

export const placeName = (name: string) => unnamed[name] ?? name;

/** Says a way in words. */
export function pathWords(path: string) {
  const [cc = "", cr = "", sc = "", sr = ""] = path.split("|");
  const place = (c: string, r: string) => [c, r].filter(Boolean).map(placeName).join(" ") || "anywhere";
  return `${place(cc, cr)} → ${place(sc, sr)}`;
}
