// A period by the day: one mark a day, and the same in a table.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Link } from "../marks/Controls";
import { n } from "../marks/words";
import { type Day, type State, states, wordOf } from "./evidence";

/** What fills the mark of a day: colour and texture, so that either tells them apart. */
const fills: Record<State, { color: string; texture?: "lines" | "dots" | "none" }> = {
  held: { color: "permit" },
  broken: { color: "reject" },
  leaked: { color: "reject", texture: "lines" },
  open: { color: "open", texture: "dots" },
  undefined: { color: "open", texture: "lines" },
  none: { color: "volume", texture: "none" },
  partly: { color: "permit", texture: "lines" },
  unknown: { color: "volume", texture: "lines" },
};

function Fill({ state, size }: { state: State; size: number }) {
  const f = fills[state];
  return (
    <chakra.svg
      width={`${size}px`}
      height={`${size}px`}
      viewBox="0 0 12 12"
      color={f.color}
      display="inline-block"
      verticalAlign="-1px"
      flexShrink={0}
      aria-hidden
    >
      <rect
        x="0.75"
        y="0.75"
        width="10.5"
        height="10.5"
        rx="1.5"
        fill={f.texture ? "none" : "currentColor"}
        stroke="currentColor"
        strokeWidth="1.5"
      />
      {f.texture === "lines" && <path d="M1 8 8 1M4 11 11 4" stroke="currentColor" strokeWidth="1.5" />}
      {f.texture === "dots" && (
        <g fill="currentColor">
          <circle cx="4" cy="4" r="1.1" />
          <circle cx="8" cy="8" r="1.1" />
          <circle cx="8" cy="4" r="1.1" />
          <circle cx="4" cy="8" r="1.1" />
        </g>
      )}
    </chakra.svg>
  );
}

const short = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", timeZone: "UTC" });

export function Days({ days, group }: { days: Day[]; group: boolean }) {
  const [table, setTable] = useState(false);
  const against = days.some((d) => d.against > 0);
  const used = states.filter((s) => days.some((d) => d.state === s.state));
  return (
    <Box mt="14px">
      <Flex wrap="wrap" gap="3px" role="list" aria-label="the days of the period">
        {days.map((d, i) => {
          const date = new Date(`${d.day}T00:00:00Z`);
          const named = i === 0 || date.getUTCDate() === 1 || i === days.length - 1;
          return (
            <Box key={d.day} role="listitem" w="30px" textAlign="center" title={words(d)} data-day={d.state}>
              <Fill state={d.state} size={20} />
              {against && (
                <Text fontSize="10px" color="reject" lineHeight="1.1" h="11px" aria-hidden>
                  {d.against > 0 && n(d.against)}
                </Text>
              )}
              <chakra.span srOnly>{words(d)}</chakra.span>
              <Text fontSize="10px" color="soft" lineHeight="1.1" whiteSpace="nowrap" aria-hidden>
                {named ? short.format(date) : date.getUTCDate()}
              </Text>
            </Box>
          );
        })}
      </Flex>
      <Flex gap="14px" wrap="wrap" mt="6px" fontSize="12px" color="soft">
        {used.map((s) => (
          <span key={s.state}>
            <Fill state={s.state} size={11} /> {n(days.filter((d) => d.state === s.state).length)} {s.word}
          </span>
        ))}
        {against && (
          <span>
            <chakra.span color="reject">in red</chakra.span>: connections that contradict the promise
          </span>
        )}
        <Box _print={{ display: "none" }}>
          <Link onClick={() => setTable(!table)} aria-expanded={table}>
            {table ? "Hide the table" : "Show the table"}
          </Link>
        </Box>
      </Flex>
      <Box display={table ? undefined : "none"} _print={{ display: "block" }} mt="8px">
        <DayTable days={days} group={group} />
      </Box>
    </Box>
  );
}

function words(d: Day): string {
  const out = [`${short.format(new Date(`${d.day}T00:00:00Z`))}: ${wordOf(d.state)}`];
  if (d.none > 0 && d.draft) out.push(`with the draft it ${d.draft === "holds" ? "holds" : `is ${d.draft}`}`);
  if (d.members) out.push(`enforced for ${n(d.enforced)} of ${n(d.members)}`);
  if (d.shown)
    out.push(d.shown === "cannot be shown" ? "no proof that the promise held" : `the promise was ${d.shown}`);
  if (d.against) out.push(`${n(d.against)} contradict it`);
  return out.join(", ");
}

/** Seconds as a share of the day, as people say it. */
function hours(seconds: number): string {
  if (seconds === 0) return "";
  const h = seconds / 3600;
  return h >= 23.99 ? "all day" : h < 1 ? `${Math.max(1, Math.round(h * 60))} min` : `${Math.round(h)} h`;
}

function DayTable({ days, group }: { days: Day[]; group: boolean }) {
  const cell = { py: "1px", pr: "12px", borderBottomWidth: "1px", borderColor: "line2", whiteSpace: "nowrap" } as const;
  const heads = [
    "day",
    "",
    "promise",
    "in force",
    ...(group ? [] : ["held"]),
    "enforced",
    "carried",
    "contradict it",
    "leaked",
    "dropped",
    "unknown",
  ];
  return (
    <Box overflowX="auto" _print={{ overflow: "visible" }}>
      <chakra.table fontSize="12px" aria-label="day by day" _print={{ fontSize: "9px" }}>
        <thead>
          <tr>
            {heads.map((h, i) => (
              <chakra.th key={i} {...cell} fontWeight="500" color="soft" textAlign={i > 1 ? "right" : "left"}>
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {days.map((d) => {
            const inForce = d.holds + d.open + d.broken + d.undefined;
            const cells = [
              d.shown ?? "",
              inForce ? `${hours(inForce)}${d.releases.length ? `: release ${d.releases.join(", ")}` : ""}` : "nothing",
              ...(group ? [] : [hours(d.holds) || (inForce ? "no" : `draft: ${d.draft ?? ""}`)]),
              `${n(d.enforced)} of ${n(d.members)}`,
              n(d.sums.permitted + d.sums.uncovered + d.sums.leaks),
              n(d.against),
              n(d.sums.leaks),
              n(d.sums.held + d.sums.chokes),
              d.unknownHours ? `${n(d.unknownHours)} h` : "",
            ];
            return (
              <chakra.tr key={d.day} _print={{ breakInside: "avoid" }}>
                <chakra.td {...cell}>{d.day}</chakra.td>
                <chakra.td {...cell}>
                  <Fill state={d.state} size={10} /> {wordOf(d.state)}
                </chakra.td>
                {cells.map((c, i) => (
                  <chakra.td key={i} {...cell} textAlign="right">
                    {c}
                  </chakra.td>
                ))}
              </chakra.tr>
            );
          })}
        </tbody>
      </chakra.table>
    </Box>
  );
}
