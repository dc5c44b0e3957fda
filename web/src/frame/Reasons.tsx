import { Box, chakra, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { onDay } from "../marks/words";

/** Why a group says what it says: each test with the tag it read and its source. */
export function Reasons({ reasons }: { reasons: Schemas["ReasonOut"][] }) {
  return (
    <Box>
      {reasons.map((r, i) => (
        <Box key={i}>
          <Text color="soft">
            <chakra.span fontFamily="mono" fontSize="12px">
              {r.text}
            </chakra.span>
            {r.tag && `, ${r.tag.byHand ? `set by hand by ${r.tag.by}` : `from ${r.tag.source}`}, ${onDay(r.tag.at)}`}
            {r.missing && (
              <chakra.span color="open" fontWeight="500">
                {" "}
                {r.key} is missing
              </chakra.span>
            )}
          </Text>
          {r.kids && (
            <Box pl="10px">
              <Reasons reasons={r.kids} />
            </Box>
          )}
        </Box>
      ))}
    </Box>
  );
}
