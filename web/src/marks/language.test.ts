// The words of the interface: no sentence over 25 words, and none of the words that docs/words.md
// replaces.
import ts from "typescript";
import { expect, test } from "vitest";

const most = 25;

/** What may not stand on a screen, each with what to write. */
const instead: [RegExp, string][] = [
  [/\bway back\b/i, "rollback"],
  [/\bways? in\b/i, "management access"],
  [/\bcannot tell\b|\bcan no longer be told\b/i, "undecided"],
  [/\ball the same\b/i, "anyway"],
  [/\bvery moment\b/i, "at the same moment"],
  [/\bby itself\b|\bby themselves\b/i, "automatically"],
  [/\bforget\b|\bforgot\b/i, "delete"],
  [/\btell me\b|\bis told\b|\bare told\b/i, "notify"],
  [/\b(was|were|is|are) held\b|\bheld back\b/i, "blocked, paused or loaded"],
  [/\bholds? (no|a|an|it|the release)\b/i, "has, or runs"],
  [/\bput back\b|\bputs back\b/i, "restore"],
  [/\bmend(s|ed)?\b/i, "fix"],
  [/\bnot known\b|\bis known of\b/i, "unknown"],
  [/\bspeaks? (of|against)\b/i, "covers, contradicts"],
  [/\bwant of room\b/i, "lack of space"],
  [/\bany more\b/i, "no longer"],
  [/\blooking…/i, "Loading…"],
];

/** All source files, by their paths. */
const sources = Object.entries(
  import.meta.glob<string>("../**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true }),
).filter(([path]) => !/\.test\.|\.d\.ts$|\/editor\//.test(path));

/** The texts of a file: JSX with its inner values as “x”, and strings. */
function texts(path: string, source: string): [line: number, text: string][] {
  const file = ts.createSourceFile(path, source, ts.ScriptTarget.Latest, true, ts.ScriptKind.TSX);
  const out: [number, string][] = [];
  const add = (n: ts.Node, s: string) => {
    const text = s.replace(/\s+/g, " ").trim();
    if (/[a-z]{2,} [a-z]/i.test(text)) out.push([file.getLineAndCharacterOfPosition(n.getStart()).line + 1, text]);
  };
  const visit = (n: ts.Node) => {
    if (ts.isJsxElement(n) || ts.isJsxFragment(n))
      add(
        n,
        n.children
          .map((c) =>
            ts.isJsxText(c)
              ? c.text
              : ts.isJsxExpression(c) && c.expression && ts.isStringLiteral(c.expression)
                ? c.expression.text
                : " x ",
          )
          .join(""),
      );
    if ((ts.isStringLiteral(n) || ts.isNoSubstitutionTemplateLiteral(n)) && !ts.isImportDeclaration(n.parent))
      add(n, n.text);
    if (ts.isTemplateExpression(n)) add(n, n.head.text + n.templateSpans.map((s) => "x" + s.literal.text).join(""));
    ts.forEachChild(n, visit);
  };
  visit(file);
  return out;
}

test("sentences are short, and their words are those of the glossary", () => {
  const wrong: string[] = [];
  let read = 0;
  for (const [path, source] of sources)
    for (const [line, text] of texts(path, source)) {
      read++;
      for (const sentence of text.split(/[.:;?!](?:\s|$)/))
        if (sentence.split(" ").filter((w) => /\w/.test(w)).length > most)
          wrong.push(`${path}:${line}: over ${most} words: ${sentence}`);
      for (const [word, write] of instead)
        if (word.test(text)) wrong.push(`${path}:${line}: “${text}”: write ${write}`);
    }
  expect(read).toBeGreaterThan(1500);
  expect(wrong).toEqual([]);
}, 60_000);
