// What each heading of a file is: guessed, remembered for the source, changed here.
import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { Entry, Select } from "../marks/Controls";

const columns = {
  workloads: ["id", "name", "addresses", "os", "kind", "from", "until"],
  flows: [
    "start",
    "src",
    "dst",
    "proto",
    "dport",
    "end",
    "sport",
    "bytes",
    "packets",
    "connections",
    "outcome",
    "observer",
    "service",
    "dropped",
    "date",
    "reply bytes",
    "reply packets",
  ],
};

type Kind = keyof typeof columns;

const mostShown = 60;

export function Columns({
  kind,
  report: r,
  form,
  set,
}: {
  kind: Kind;
  report: Schemas["ImportReport"];
  form: Schemas["Form"];
  set: (heading: string, as: string) => void;
}) {
  const mapping = form.columns ?? {};
  // Of a thousand columns, those that are read and the first ones.
  const shown = r.headings!.map((h, i) => ({ h, i })).filter(({ h, i }) => i < mostShown || mapping[h]);
  const own = r.headings!.every((h) => mapping[h] === h);
  const [open, setOpen] = useState(false);
  if (own && !open) {
    return (
      <chakra.button
        type="button"
        color="soft"
        textDecoration="underline"
        textUnderlineOffset="3px"
        mb="6px"
        onClick={() => setOpen(true)}
      >
        The headings are known. Change how they are read…
      </chakra.button>
    );
  }
  return (
    <Box mb="8px" overflowX="auto" borderWidth="1px" borderColor="line" borderRadius="5px">
      <chakra.table w="100%" fontSize="12px">
        <thead>
          <tr>
            {shown.map(({ h }) => (
              <chakra.th key={h} textAlign="left" fontWeight="500" px="8px" py="4px" whiteSpace="nowrap">
                {h || <i>no heading</i>}
                <Box>
                  <As kind={kind} heading={h} to={mapping[h] ?? ""} set={(to) => set(h, to)} />
                </Box>
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {r.first?.map((row, i) => (
            <tr key={i}>
              {shown.map(({ h, i: k }) => (
                <chakra.td
                  key={k}
                  px="8px"
                  py="1px"
                  color={mapping[h] ? "ink" : "soft"}
                  whiteSpace="nowrap"
                  maxW="150px"
                  overflow="hidden"
                  textOverflow="ellipsis"
                >
                  {row[k]}
                </chakra.td>
              ))}
            </tr>
          ))}
        </tbody>
      </chakra.table>
      <Text color="soft" px="8px" py="3px" fontSize="11.5px">
        {shown.length < r.headings!.length && `${r.headings!.length - shown.length} more columns are hidden. `}
        The first rows. Your choice is remembered{kind === "workloads" ? " for the source" : ""}.
      </Text>
    </Box>
  );
}

/** A column, a tag with its key, or nothing. */
function As({ kind, heading, to, set }: { kind: Kind; heading: string; to: string; set: (to: string) => void }) {
  const tag = to.startsWith("tag:");
  const [key, setKey] = useState(tag ? to.slice(4) : heading.toLowerCase());
  return (
    <>
      <Select
        h="auto"
        px="2px"
        aria-label={`read ${heading} as`}
        value={tag ? "tag" : to}
        onChange={(e) => set(e.target.value === "tag" ? `tag:${key || heading}` : e.target.value)}
        borderColor={to ? "line" : "line2"}
        color={to ? "ink" : "soft"}
        fontWeight="400"
      >
        <option value="">ignored</option>
        {columns[kind].map((c) => (
          <option key={c}>{c}</option>
        ))}
        {kind === "workloads" && <option value="tag">a tag:</option>}
      </Select>
      {tag && (
        <Entry
          h="21px"
          w="84px"
          ml="3px"
          fontSize="12px"
          aria-label={`tag for ${heading}`}
          value={key}
          set={setKey}
          onBlur={() => key && `tag:${key}` !== to && set(`tag:${key}`)}
          onKeyDown={(e) => e.key === "Enter" && key && set(`tag:${key}`)}
        />
      )}
    </>
  );
}
