// What became of the conversations that derivation looked at.
import { Box, chakra, Flex } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { n, plural } from "../marks/words";

export function Meter({ parts }: { parts: Schemas["Parts"] }) {
  const all: [string, number, string, string][] = [
    ["decided", parts.decided, "permit", "a rule of the draft now decides them"],
    ["refused", parts.refused, "reject", "behind refused proposals"],
    ["set aside", parts.aside, "volumeFaint", "not proposed; the reasons are below"],
    ["only dropped", parts.dropped, "soft", "the network dropped all of them, so nothing is proposed"],
    ["at another balance", parts.unproposed, "line", "proposed only at another balance"],
    ["to judge", parts.toJudge, "open", "behind the proposals in the list"],
  ];
  const shown = all.filter(([, v]) => v > 0);
  const total = Math.max(
    1,
    shown.reduce((s, [, v]) => s + v, 0),
  );
  return (
    <Box
      px="16px"
      mt="2px"
      data-meter={parts.toJudge}
      role="img"
      aria-label={shown.map(([w, v]) => `${n(v)} ${w}`).join(", ") || "no conversations"}
    >
      <Flex h="7px" borderRadius="2px" overflow="hidden" bg="line2">
        {shown.map(([word, v, color, title]) => (
          <Box
            key={word}
            title={`${plural(v, "conversation")}: ${title}`}
            w={`${(100 * v) / total}%`}
            minW="3px"
            bg={color}
            borderRightWidth="1px"
            borderColor="sheet"
          />
        ))}
      </Flex>
      <Flex columnGap="12px" fontSize="11.5px" color="soft" wrap="wrap">
        {shown.map(([word, v, color, title]) => (
          <chakra.span key={word} title={title}>
            <chakra.span display="inline-block" w="7px" h="7px" borderRadius="1px" bg={color} mr="4px" />
            <chakra.b color="ink">{n(v)}</chakra.b> {word}
          </chakra.span>
        ))}
        {parts.closing > 0 && (
          <span title="only a rule of the closing layer decides them; the rest have no rule">
            <chakra.b color="ink">{n(parts.closing)}</chakra.b> meet only the closing layer
          </span>
        )}
      </Flex>
    </Box>
  );
}
