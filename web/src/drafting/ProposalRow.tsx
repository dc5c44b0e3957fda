import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { problem } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWhy } from "../frame/address";
import { Btn, Entry, Kbd, Link } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { n, onDay, percent, plural } from "../marks/words";
import { type Proposal, type Taken, useConsequences, useEvidence } from "./judging";
import { RuleSentence } from "./RuleRow";

type Props = {
  p: Proposal;
  at: number; // which of its choices is taken
  revision: number;
  current: boolean;
  later: boolean;
  refusing: boolean;
  choose: () => void;
  shift: (by: number) => void;
  take: () => void;
  askRefuse: () => void;
  refuse: (reason: string) => void;
  cancelRefuse: () => void;
};

/** A proposal; the current one has its evidence open. */
export function ProposalRow({
  p,
  at,
  revision,
  current,
  later,
  refusing,
  choose,
  shift,
  take,
  askRefuse,
  refuse,
  cancelRefuse,
}: Props) {
  const row = useRef<HTMLDivElement>(null);
  const drawn = useRef(false);
  useEffect(() => {
    // What stands above the first one is to be seen at first.
    const first = !drawn.current;
    drawn.current = true;
    if (first || !current || !row.current) return;
    // The card as a whole, if there is room; its sentence in any case.
    row.current.scrollIntoView({ block: "nearest" });
    row.current.querySelector("button")?.scrollIntoView({ block: "nearest" });
  }, [current]);
  const choice = p.choices[at]!;
  const changed = at !== p.own;
  const wide = p.barred;
  const barred = wide && at >= p.own;
  return (
    <Box
      ref={row}
      data-proposal={p.key}
      data-wide={wide || undefined}
      borderBottomWidth="1px"
      borderColor="line2"
      borderLeftWidth="3px"
      borderLeftColor={current ? "accent" : "transparent"}
      bg={current ? "tint" : undefined}
      px="14px"
      py="6px"
      opacity={later && !current ? 0.6 : 1}
    >
      <chakra.button
        type="button"
        data-row="0"
        position={current ? "sticky" : undefined}
        top="0"
        zIndex="1"
        bg={current ? "tint" : undefined}
        onClick={choose}
        onFocus={choose}
        textAlign="left"
        w="100%"
        cursor="pointer"
      >
        <Mark kind={wide ? "uncovered" : "permit"} />{" "}
        {changed ? <chakra.span fontWeight="500">{choice.sentence}</chakra.span> : <RuleSentence rule={p.rule} />}
        {changed ? (
          <Text color="accent" fontSize="12px" fontWeight="500">
            {choice.words};{" "}
            {choice.open < p.open
              ? `${n(p.open - choice.open)} of ${plural(p.open, "conversation")} stay uncovered`
              : `all ${plural(p.open, "conversation")} are in`}
          </Text>
        ) : (
          p.warnings.map((x) => (
            <chakra.span key={x} color="reject" fontWeight="500" ml="6px" fontSize="12px">
              {x}
            </chakra.span>
          ))
        )}
        {p.alone && !p.barred && (
          <chakra.span color="open" fontWeight="500" ml="6px" fontSize="12px" data-alone>
            take it alone: {p.alone}
          </chakra.span>
        )}
        {p.again && p.refused && (
          <Text color="open" fontSize="12px">
            Refused before (“{p.refused.reason || "no reason given"}”), with{" "}
            {plural(p.refused.conversations, "conversation")} behind it; now there are {n(p.conversations)}.
          </Text>
        )}
        <Text color="soft" fontSize="12px">
          {plural(p.open, "conversation")}
          {p.open < p.conversations && (
            <span title="the draft now decides the others">, {n(p.conversations)} when derived</span>
          )}{" "}
          · {plural(p.days, "day")} · {n(changed ? choice.conversations : p.pairs)} of {n(choice.opened)} opened were
          seen (fill {percent(Math.min(1, (changed ? choice.conversations : p.pairs) / Math.max(1, choice.opened)))})
          {later && " · later"}
        </Text>
        {p.why && !changed && (
          <Text color="soft" fontSize="12px" data-width-why>
            {p.why}
          </Text>
        )}
      </chakra.button>
      {current && (
        <Box mt="2px">
          {refusing ? (
            <Refuse refuse={refuse} cancel={cancelRefuse} />
          ) : (
            <Flex gap="6px" mt="4px" mb="6px" align="center" wrap="wrap">
              <Btn primary onClick={take} disabled={barred} title={barred ? "Narrow it first" : undefined}>
                Take <Kbd>T</Kbd>
              </Btn>
              <Btn onClick={() => shift(-1)} disabled={at === 0}>
                Narrow <Kbd>N</Kbd>
              </Btn>
              <Btn onClick={() => shift(1)} disabled={at === p.choices.length - 1}>
                Widen <Kbd>W</Kbd>
              </Btn>
              <Btn onClick={askRefuse}>
                Refuse… <Kbd>R</Kbd>
              </Btn>
            </Flex>
          )}
          <Callers p={p} />
          {p.groups.length > 0 && (
            <Box mt="4px" fontFamily="mono" fontSize="11.5px" color="soft">
              {p.groups.map((g) => (
                <Text key={g}>{g}</Text>
              ))}
            </Box>
          )}
          <Does taken={{ p, at }} revision={revision} barred={barred} />
        </Box>
      )}
    </Box>
  );
}

function Callers({ p }: { p: Proposal }) {
  return (
    <>
      <chakra.table w="100%" fontSize="12px">
        <thead>
          <tr>
            {["Caller", "Conv.", "Share", "Days"].map((h, i) => (
              <chakra.th key={h} textAlign={i ? "right" : "left"} color="soft" fontWeight="500">
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {p.callers.slice(0, 5).map((c) => (
            <tr key={c.name}>
              <td>
                {c.name} <chakra.span color="soft">{c.label}</chakra.span>
              </td>
              <chakra.td textAlign="right">{n(c.conversations)}</chakra.td>
              <chakra.td textAlign="right">{percent(c.connections / Math.max(1, p.connections))}</chakra.td>
              <chakra.td textAlign="right">{n(c.days)}</chakra.td>
            </tr>
          ))}
        </tbody>
      </chakra.table>
      <Flex color="soft" fontSize="12px" align="center" gap="10px">
        {p.callerCount > 5 && <Text>and {n(p.callerCount - 5)} more callers</Text>}
        <Text>
          {onDay(p.first)} – {onDay(p.last)}
        </Text>
        <Spark values={p.spark} width={110} />
      </Flex>
    </>
  );
}

/** What taking it does, and the conversations behind it. */
function Does({ taken, revision, barred }: { taken: Taken; revision: number; barred: boolean }) {
  const [open, setOpen] = useState(false);
  const { show } = useWhy();
  const c = useConsequences([taken], revision, !barred);
  const e = useEvidence(taken, revision, open);
  return (
    <Box mt="4px" fontSize="12px">
      {barred && <Text color="open">Too wide to take. Narrow it with N, or refuse it with a reason.</Text>}
      {c.error && <Text color="reject">{problem(c.error)}</Text>}
      {!barred && c.data?.consequences && <ConsequencesList c={c.data.consequences} />}
      <Link aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "Hide the conversations" : "Show the conversations that it would permit"}
      </Link>
      {open && e.data && (
        <Box maxH="150px" overflowY="auto" data-evidence={e.data.total}>
          {e.data.conversations.map((v) => (
            <Flex key={v.client.addr + v.server.addr + v.service + v.first} gap="8px">
              <Link
                textDecoration="none"
                onClick={() =>
                  show({ kind: "flow", client: v.client.addr, server: v.server.addr, service: v.service, at: v.first })
                }
              >
                {v.client.name} → {v.server.name} <chakra.span color="soft">{v.service}</chakra.span>
              </Link>
              <Text ml="auto" color="soft">
                {n(v.connections)} ×
              </Text>
            </Flex>
          ))}
          {e.data.total > e.data.conversations.length && (
            <Text color="soft">and {n(e.data.total - e.data.conversations.length)} more</Text>
          )}
        </Box>
      )}
    </Box>
  );
}

function Refuse({ refuse, cancel }: { refuse: (reason: string) => void; cancel: () => void }) {
  const [reason, setReason] = useState("");
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        refuse(reason);
      }}
    >
      <Flex gap="6px" mt="6px">
        <Entry
          autoFocus
          flex="1"
          aria-label="reason for refusing"
          placeholder="Why not?"
          value={reason}
          set={setReason}
          onKeyDown={(e) => e.key === "Escape" && cancel()}
        />
        <Btn type="submit" primary>
          Refuse
        </Btn>
        <Btn onClick={cancel}>Cancel</Btn>
      </Flex>
    </form>
  );
}
