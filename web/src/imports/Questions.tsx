// What people are asked about a file of flows: what its words mean, and rows that can
// hardly be meant.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Link, ProblemNote, Select } from "../marks/Controls";
import { n, plural } from "../marks/words";
import type { Importing } from "./useImport";

const protocols = ["tcp", "udp", "sctp", "icmp", "icmp6"];

/** The words for outcomes and protocols, with what each is read as. */
export function Words({ im }: { im: Importing }) {
  const words = im.preview?.words ?? [];
  const [open, setOpen] = useState(false);
  const asked = words.filter(
    (w) => !(w.column === "outcome" ? im.form.outcomes : im.form.protocols)?.[w.word] && !w.as,
  );
  if (words.length === 0) return null;
  if (!open && asked.length === 0)
    return (
      <Link fontSize="12px" color="soft" mb="6px" onClick={() => setOpen(true)}>
        {plural(words.length, "word")} for outcomes and protocols {words.length === 1 ? "is" : "are"} known. Change
        their meaning…
      </Link>
    );
  const shown = open ? words : asked;
  return (
    <Flex gap="14px" rowGap="4px" wrap="wrap" mb="8px" fontSize="12px" data-words={asked.length}>
      <Text>{asked.length > 0 ? "What do these words mean?" : "What these words mean:"}</Text>
      {shown.map((w) => {
        const outcome = w.column === "outcome";
        const said = (outcome ? im.form.outcomes : im.form.protocols)?.[w.word] ?? w.as;
        const set = (as: string) => im.sayWord(outcome ? "outcomes" : "protocols", w.word, as);
        return (
          <Flex key={w.column + w.word} gap="5px" align="center">
            <chakra.b>{w.word}</chakra.b>
            <Select
              h="auto"
              px="2px"
              aria-label={`${w.column} ${w.word} means`}
              value={said}
              onChange={(e) => set(e.target.value)}
              borderColor={said ? "line" : "open"}
            >
              {!said && <option value="">choose…</option>}
              {(outcome
                ? ["carried", "dropped", "unknown"]
                : [...new Set([...protocols, ...(said ? [said] : [])])]
              ).map((o) => (
                <option key={o}>{o}</option>
              ))}
            </Select>
            <chakra.span color="soft">{plural(w.rows, "row")}</chakra.span>
          </Flex>
        );
      })}
      {!open && words.length > asked.length && (
        <Link onClick={() => setOpen(true)}>and {n(words.length - asked.length)} that are known</Link>
      )}
    </Flex>
  );
}

/** Rows that are left out until somebody says that they are meant. */
export function Questions({ im }: { im: Importing }) {
  const all = im.preview?.questions ?? [];
  return (
    <>
      {all.map((q) => (
        <ProblemNote key={q.kind}>
          <Box data-question={q.kind}>
            {plural(q.rows, "row")} {q.words}{" "}
            {q.lines.length > 0 && `(line ${q.lines.join(", ")}${q.rows > q.lines.length ? ", …" : ""}) `}
            <chakra.label display="inline-flex" gap="5px" alignItems="center">
              <input
                type="checkbox"
                checked={im.said.accept.includes(q.kind)}
                onChange={(e) =>
                  im.say({
                    accept: e.target.checked ? [...im.said.accept, q.kind] : im.said.accept.filter((k) => k !== q.kind),
                  })
                }
              />
              import them anyway
            </chakra.label>
          </Box>
        </ProblemNote>
      ))}
    </>
  );
}
