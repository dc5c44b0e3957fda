import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { problem } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWhy } from "../frame/address";
import { Btn, Entry, Kbd, Link } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { n, onDay, percent, plural } from "../marks/words";
import { type Proposal, type Taken, useConsequences, useEvidence } from "./judging";
import { RuleSentence } from "./RuleRow";

const columns = "16px minmax(0,1fr) minmax(0,auto) 52px";

/** What the columns of the lines are. */
export function ProposalHead() {
  return (
    <Grid
      templateColumns={columns}
      gap="8px"
      px="13px"
      py="2px"
      fontSize="11.5px"
      color="soft"
      position="sticky"
      top="0"
      bg="sheet"
      zIndex="1"
      borderBottomWidth="1px"
      borderColor="line2"
    >
      <span />
      <Text>Proposal</Text>
      <Text>Look at</Text>
      <Text textAlign="right" title="conversations that it settles">
        Settles
      </Text>
    </Grid>
  );
}

type LineProps = {
  p: Proposal;
  at: number; // which of its choices is taken
  current: boolean;
  later: boolean;
  choose: () => void;
};

/** A proposal in one line. */
export function ProposalLine({ p, at, current, later, choose }: LineProps) {
  const row = useRef<HTMLDivElement>(null);
  const drawn = useRef(false);
  useEffect(() => {
    const first = !drawn.current;
    drawn.current = true;
    if (!first && current) row.current?.scrollIntoView({ block: "nearest" });
  }, [current]);
  const changed = at !== p.own;
  const look = [
    ...(changed ? [at < p.own ? "narrowed" : "widened"] : []),
    ...p.warnings,
    ...(p.alone && !p.barred ? [p.alone] : []),
    ...(p.again ? ["refused before"] : []),
  ];
  return (
    <Box
      ref={row}
      data-proposal={p.key}
      data-wide={p.barred || undefined}
      borderBottomWidth="1px"
      borderColor="line2"
      borderLeftWidth="3px"
      borderLeftColor={current ? "accent" : "transparent"}
      bg={current ? "tint" : undefined}
      opacity={later && !current ? 0.6 : 1}
    >
      <chakra.button
        type="button"
        data-row="0"
        onClick={choose}
        onFocus={choose}
        textAlign="left"
        w="100%"
        cursor="pointer"
        display="grid"
        gridTemplateColumns={columns}
        gap="8px"
        alignItems="center"
        px="10px"
        py="3px"
        aria-current={current || undefined}
      >
        <Mark kind={p.barred ? "uncovered" : "permit"} />
        <Text truncate title={changed ? p.choices[at]!.sentence : p.key}>
          {changed ? p.choices[at]!.sentence : <RuleSentence rule={p.rule} />}
        </Text>
        <Text
          truncate
          maxW="230px"
          fontSize="12px"
          color={p.warnings.length > 0 ? "reject" : "open"}
          title={look.join("; ")}
          data-look={look.length || undefined}
        >
          {later && <chakra.span color="soft">later </chakra.span>}
          {look[0]}
          {look.length > 1 && ` +${look.length - 1}`}
        </Text>
        <Text textAlign="right">{n(p.open)}</Text>
      </chakra.button>
    </Box>
  );
}

type CardProps = {
  p: Proposal;
  at: number; // which of its choices is taken
  revision: number;
  later: boolean;
  refusing: boolean;
  shift: (by: number) => void;
  take: () => void;
  askRefuse: () => void;
  refuse: (reason: string) => void;
  cancelRefuse: () => void;
};

/** The selected proposal with its evidence, and what can be done with it. */
export function ProposalCard({
  p,
  at,
  revision,
  later,
  refusing,
  shift,
  take,
  askRefuse,
  refuse,
  cancelRefuse,
}: CardProps) {
  const choice = p.choices[at]!;
  const changed = at !== p.own;
  const barred = p.barred && at >= p.own;
  const seen = changed ? choice.conversations : p.pairs;
  return (
    <Box data-card={p.key} px="16px" py="8px">
      <Text fontWeight={changed ? "500" : undefined}>
        <Mark kind={p.barred ? "uncovered" : "permit"} /> {changed ? choice.sentence : <RuleSentence rule={p.rule} />}
      </Text>
      {changed ? (
        <Text color="accent" fontSize="12px" fontWeight="500">
          {choice.words};{" "}
          {choice.open < p.open
            ? `${n(p.open - choice.open)} of ${plural(p.open, "conversation")} stay uncovered`
            : `all ${plural(p.open, "conversation")} are in`}
        </Text>
      ) : (
        p.warnings.length > 0 && (
          <Text color="reject" fontWeight="500" fontSize="12px">
            {p.warnings.join("; ")}
          </Text>
        )
      )}
      {p.alone && !p.barred && (
        <Text color="open" fontWeight="500" fontSize="12px" data-alone>
          take it alone: {p.alone}
        </Text>
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
        · {plural(p.days, "day")} · {n(seen)} of the {plural(choice.opened, "pair")} that it permits were seen (
        {percent(Math.min(1, seen / Math.max(1, choice.opened)))}){later && " · later"}
      </Text>
      {p.why && !changed && (
        <Text color="soft" fontSize="12px" data-width-why>
          {p.why}
        </Text>
      )}
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
      <Grid templateColumns={{ base: "minmax(0,1fr)", md: "minmax(0,1fr) minmax(0,1fr)" }} gap="20px">
        <Box>
          <Callers p={p} />
          {p.groups.length > 0 && (
            <Box mt="4px" fontFamily="mono" fontSize="11.5px" color="soft" overflowWrap="anywhere">
              {p.groups.map((g) => (
                <Text key={g}>{g}</Text>
              ))}
            </Box>
          )}
        </Box>
        <Does taken={{ p, at }} revision={revision} barred={barred} />
      </Grid>
    </Box>
  );
}

const few = 4;

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
          {p.callers.slice(0, few).map((c) => (
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
        {p.callerCount > few && <Text>and {n(p.callerCount - few)} more callers</Text>}
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
