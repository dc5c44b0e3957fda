// Which kind of file was dropped: from its first bytes, not from its name.

export type Recognised = "workloads" | "flows" | "policy" | "estate";

const captures = ["a1b2c3d4", "d4c3b2a1", "a1b23c4d", "4d3cb2a1", "0a0d0d0a"];

/** Headings that only a table of flows has, and those of a list of workloads. */
const ofFlows =
  /^(src|dst|source|destination|client|server|sport|dport|proto|protocol|bytes|packets|quelle|ziel)\b|(src|dst|source|destination|quell|ziel)[ _-]?(ip|addr|port|adresse)/i;
const ofWorkloads = /^(id|name|host|hostname|addresses|address|ip|os|kind|tag:.+|app|tier|env|site|rolle|adresse)$/i;

const hex = (bytes: Uint8Array) => [...bytes.slice(0, 4)].map((b) => b.toString(16).padStart(2, "0")).join("");

/** Recognises a file by its start (decompressed); nothing, where it could be either. */
export function recognise(start: Uint8Array): Recognised | undefined {
  if (captures.includes(hex(start))) return "flows";
  if (start[0] === 0 && start[1] === 10) return "flows"; // an IPFIX message
  const text = new TextDecoder().decode(start).replace(/^\uFEFF/, "");
  const lines = text
    .split(/\r?\n/)
    .map((l) => l.trim())
    .filter((l) => l && !l.startsWith("#"));
  const first = lines[0] ?? "";
  if (first.includes('"lucid-orchard-estate"')) return "estate";
  if (/^(group|services?|permit|reject|assert)\b/.test(first) && /->|=|:/.test(first)) return "policy";
  const words = /^[[{]/.test(first)
    ? [...text.matchAll(/"([^"]+)"\s*:/g)].map((m) => m[1]!)
    : first.split(/[,;\t|]/).map((w) => w.trim().replace(/^"|"$/g, ""));
  const flows = words.filter((w) => ofFlows.test(w)).length;
  const workloads = words.filter((w) => ofWorkloads.test(w)).length;
  if (flows >= 2 && flows > workloads) return "flows";
  if (workloads > 0 && flows < 2) return "workloads";
  return undefined;
}

/** The first bytes of a file, decompressed if it was packed with gzip. */
export async function startOf(file: File): Promise<Uint8Array> {
  const most = 1 << 16;
  const start = new Uint8Array(await file.slice(0, most).arrayBuffer());
  if (start[0] !== 0x1f || start[1] !== 0x8b) return start;
  const reader = file.stream().pipeThrough(new DecompressionStream("gzip")).getReader();
  try {
    return (await reader.read()).value ?? start;
  } finally {
    void reader.cancel().catch(() => undefined);
  }
}
