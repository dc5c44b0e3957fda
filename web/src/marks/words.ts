// Numbers and times as people read them.
const number = new Intl.NumberFormat(undefined, { maximumFractionDigits: 0 });
const oneDigit = new Intl.NumberFormat(undefined, { maximumFractionDigits: 1, minimumFractionDigits: 1 });
const day = new Intl.DateTimeFormat(undefined, { day: "numeric", month: "short" });
const second = new Intl.DateTimeFormat(undefined, {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  second: "2-digit",
});
const minute = new Intl.DateTimeFormat(undefined, {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
});

const full = new Intl.DateTimeFormat(undefined, {
  day: "numeric",
  month: "short",
  year: "numeric",
  hour: "2-digit",
  minute: "2-digit",
});

/** Where the server's sums stop (2^63 − 1): one that reaches it may be more. */
const most = 2 ** 63;
const atLeast = (v: number) => (v >= most ? "at least " : "");

export const n = (v: number) => atLeast(v) + number.format(v);

/** A sentence of the server with its large numbers as people read them. */
export const worded = (sentence: string) =>
  sentence.replace(/\b(for|of|all) (\d{4,})\b/g, (_, word: string, count: string) => `${word} ${n(Number(count))}`);

export function percent(share: number) {
  // 100 % is said only of all: what is almost all is not all.
  const p = share * 100;
  return `${oneDigit.format(share < 1 ? Math.min(99.9, p) : p)} %`;
}

export const plural = (v: number, one: string, many = `${one}s`) => `${n(v)} ${v === 1 ? one : many}`;

export function bytes(v: number) {
  const units = ["B", "kB", "MB", "GB", "TB", "PB", "EB"];
  const said = atLeast(v);
  let i = 0;
  while (v >= 1000 && i < units.length - 1) {
    v /= 1000;
    i++;
  }
  return `${said}${v < 10 && i > 0 ? oneDigit.format(v) : n(v)} ${units[i]}`;
}

export const onDay = (t: string | Date) => day.format(new Date(t));
export const atMinute = (t: string | Date) => minute.format(new Date(t));
export const atSecond = (t: string | Date) => second.format(new Date(t));
/** With its year, for what may be of any. */
export const fullTime = (t: string | Date) => full.format(new Date(t));
/** The same instant in UTC, for the title of a shown time. */
export const utc = (t: string) => `${t.replace("T", " ").replace("Z", "")} UTC`;
