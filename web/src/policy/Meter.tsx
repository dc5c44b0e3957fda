// What remains undecided of what derivation looked at.
import { Box, chakra, Flex } from "@chakra-ui/react";
import { n, plural } from "../marks/words";
import type { Derived, Proposal } from "./judging";

export function Meter({ d, open, refused }: { d: Derived; open: Proposal[]; refused: Proposal[] }) {
  const sum = (ps: Proposal[]) => ps.reduce((s, p) => s + p.conversations, 0);
  const judge = sum(open.filter((p) => !p.barred));
  const no = sum(refused.filter((p) => !p.barred));
  const aside = d.aside.reduce((s, a) => s + a.conversations, 0);
  const total = Math.max(1, d.considered);
  const settled = Math.max(0, d.considered - judge - no - aside);
  const parts: [string, number, string, string][] = [
    ["settled", settled, "permit", "decided since, by what you took"],
    ["refused", no, "reject", "behind proposals that you refused"],
    ["set aside", aside, "volumeFaint", "not proposed, each with its reason below"],
    ["to judge", judge, "open", "behind the proposals in the list"],
  ];
  return (
    <Box px="16px" mt="2px" data-meter={judge} role="img" aria-label={parts.map(([w, v]) => `${n(v)} ${w}`).join(", ")}>
      <Flex h="7px" borderRadius="2px" overflow="hidden" bg="line2">
        {parts.map(
          ([word, v, color, title]) =>
            v > 0 && (
              <Box
                key={word}
                title={`${plural(v, "conversation")}: ${title}`}
                w={`${(100 * v) / total}%`}
                minW="3px"
                bg={color}
                borderRightWidth="1px"
                borderColor="sheet"
              />
            ),
        )}
      </Flex>
      <Flex gap="12px" fontSize="11.5px" color="soft" wrap="wrap">
        {parts.map(([word, v, color, title]) => (
          <chakra.span key={word} title={title}>
            <chakra.span display="inline-block" w="7px" h="7px" borderRadius="1px" bg={color} mr="4px" />
            <chakra.b color="ink">{n(v)}</chakra.b> {word}
          </chakra.span>
        ))}
        {d.dropped > 0 && (
          <span title="the network only dropped them, so that nothing is proposed for them">
            <chakra.b color="ink">{n(d.dropped)}</chakra.b> only dropped
          </span>
        )}
      </Flex>
    </Box>
  );
}
