import { Box, chakra, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { atMinute, fullTime, n, plural } from "../marks/words";

type R = Schemas["ImportReport"];

/** What a file says and does, row by row where it cannot be used. */
export function Report({ kind, report: r, done }: { kind: "workloads" | "flows"; report: R; done: boolean }) {
  return (
    <Box data-report={done ? "done" : "preview"}>
      <Text fontFamily="heading" fontSize="16px" mb="4px">
        {r.already
          ? `This file was imported before, on ${atMinute(r.already)}; nothing was counted twice.`
          : kind === "workloads"
            ? `${plural(r.added, "workload")} ${done ? "added" : "would be added"}, ${n(r.changed)} changed, ${n(r.same)} the same.`
            : `${r.fileFormat === "packet capture" ? plural(r.rows, "packet") : r.fileFormat === "IPFIX file" ? plural(r.rows, "record") : plural(r.rows - r.bad - r.held, "flow")} in ${plural(r.added, "conversation-hour")}${r.from ? `, ${fullTime(r.from)} to ${fullTime(r.to!)}` : ""}.`}
      </Text>
      {r.missing > 0 && (
        <Text>
          {plural(r.missing, "workload")} that the source has listed {r.missing === 1 ? "is" : "are"} not in this file:{" "}
          {done
            ? `${n(r.retired?.length ?? 0)} of them, listed by no other source, ${r.retired?.length === 1 ? "was" : "were"} retired.`
            : "Those listed by no other source would be retired."}
        </Text>
      )}
      {r.kept > 0 && <Text>{plural(r.kept, "tag")} set by hand or by a higher-ranked source stay unchanged.</Text>}
      {kind === "flows" && r.outside > 0 && (
        <Text color="soft">{plural(r.outside, "flow")} with an address of no workload: shown as outside.</Text>
      )}
      {kind === "flows" && r.unsure > 0 && (
        <Text color="open">
          Of {plural(r.unsure, "connection")} the server end is uncertain; the ledger has a filter for them.
        </Text>
      )}
      {r.warnings.map((w) => (
        <Text key={w} color="soft">
          {w}
        </Text>
      ))}
      {r.newWords.length > 0 && !done && (
        <Text mt="6px">
          <b>New to the vocabulary:</b> {r.newWords.slice(0, 12).join(" · ")}
          {r.newWords.length > 12 && ` and ${n(r.newWords.length - 12)} more`}
        </Text>
      )}
      {r.held > 0 && (
        <Text color="open">
          {plural(r.held, "row")} {done ? "were" : "are"} left out, because nobody confirmed them.
        </Text>
      )}
      {r.bad > 0 && (
        <Box mt="8px" data-bad={r.bad}>
          <Text fontWeight="600">
            {plural(r.bad, "row")} cannot be used
            {r.rows > r.bad ? `; the others ${done ? "were" : "would be"} taken` : ""}
          </Text>
          {r.badKinds.map((k) => (
            <Text key={k.column + k.reason}>
              {plural(k.rows, "row")}: {k.column && <chakra.b>{k.column} </chakra.b>}
              {k.reason}{" "}
              <chakra.span color="soft">
                line {k.lines.join(", ")}
                {k.rows > k.lines.length && ", …"}
              </chakra.span>
            </Text>
          ))}
        </Box>
      )}
      {r.examples.length > 0 && !done && (
        <Box mt="8px">
          <Text fontWeight="600">Examples of changes</Text>
          {r.examples.map((e) => (
            <Text key={e.id}>
              {e.id} {e.new && <chakra.span color="permit">new</chakra.span>}{" "}
              <chakra.span color="soft">{e.what?.join(", ")}</chakra.span>
            </Text>
          ))}
        </Box>
      )}
    </Box>
  );
}
