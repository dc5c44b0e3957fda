// Names, values and notes as policy text writes them (language, §2 and §3).

const keywords = new Set(
  (
    "service group area layer permit reject apart off assert never always only any outside workload on within until log " +
    "include exclude owner same across or and not has lacks address in member of is starts ends contains matches tcp udp sctp icmp icmp6"
  ).split(" "),
);

const inQuotes = (text: string) =>
  `"${text
    .replaceAll("\\", "\\\\")
    .replaceAll('"', '\\"')
    .replaceAll(/[\r\n]+/g, " ")}"`;

/** A name, a key or a value: in quotes unless it is a word that means itself. */
export function quote(text: string): string {
  return /^[A-Za-z0-9_:][A-Za-z0-9_.:/-]*$/.test(text) && !keywords.has(text) ? text : inQuotes(text);
}

/** What stands at the end of a statement: its note, or nothing. */
export function noteText(note: string | undefined): string {
  return note ? ` ${inQuotes(note)}` : "";
}
