import { Box, chakra, Flex, Input, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { Btn, inputStyle, Kbd } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { n, onDay, percent, plural } from "../marks/words";
import { RuleSentence } from "./RuleRow";

type Props = {
  p: Schemas["ProposalOut"];
  current: boolean;
  later: boolean;
  refusing: boolean;
  choose: () => void;
  take: () => void;
  askRefuse: () => void;
  refuse: (reason: string) => void;
  cancelRefuse: () => void;
};

/** A proposal; the current one has its evidence open. */
export function ProposalRow({ p, current, later, refusing, choose, take, askRefuse, refuse, cancelRefuse }: Props) {
  const row = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (current) row.current?.scrollIntoView({ block: "nearest" });
  }, [current]);
  return (
    <Box ref={row} data-proposal={p.key} borderBottomWidth="1px" borderColor="line2" borderLeftWidth="3px" borderLeftColor={current ? "accent" : "transparent"} bg={current ? "tint" : undefined} px="14px" py="6px" opacity={later && !current ? 0.6 : 1}>
      <chakra.button type="button" data-row="0" onClick={choose} onFocus={choose} textAlign="left" w="100%" cursor="pointer">
        <Mark kind="permit" /> <RuleSentence rule={p.rule} />
        {p.warnings.map((w) => (
          <chakra.span key={w} color="reject" fontWeight="500" ml="6px" fontSize="12px">
            {w}
          </chakra.span>
        ))}
        <Text color="soft" fontSize="12px">
          {plural(p.conversations, "conversation")} · {plural(p.days, "day")} · {n(p.pairs)} of {n(p.opened)} opened were seen (fill {percent(p.fill)}){later && " · later"}
        </Text>
      </chakra.button>
      {current && (
        <Box mt="6px">
          <chakra.table w="100%" fontSize="12px">
            <thead>
              <tr>
                {["Caller", "Conv.", "Days"].map((h, i) => (
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
          {p.groups.length > 0 && (
            <Box mt="4px" fontFamily="mono" fontSize="11.5px" color="soft">
              {p.groups.map((g) => (
                <Text key={g}>{g}</Text>
              ))}
            </Box>
          )}
          {refusing ? (
            <Refuse refuse={refuse} cancel={cancelRefuse} />
          ) : (
            <Flex gap="8px" mt="6px" align="center">
              <Btn primary onClick={take}>
                Take <Kbd>T</Kbd>
              </Btn>
              <Btn onClick={askRefuse}>
                Refuse… <Kbd>R</Kbd>
              </Btn>
              <Text color="soft" fontSize="12px">
                opens {n(p.opened)}; refusing leaves {n(p.conversations)} uncovered
              </Text>
            </Flex>
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
        <Input {...inputStyle} autoFocus flex="1" aria-label="reason for refusing" placeholder="Why not?" value={reason} onChange={(e) => setReason(e.target.value)} onKeyDown={(e) => e.key === "Escape" && cancel()} />
        <Btn type="submit" primary>
          Refuse
        </Btn>
        <Btn onClick={cancel}>Cancel</Btn>
      </Flex>
    </form>
  );
}
