// The terrace map as a table.
import { Box, chakra } from "@chakra-ui/react";

import { n } from "../marks/words";
import { type Pick, pathOf, placeName } from "./passages";
import { ink, sum, type Terrace } from "./terraces";

/** The same as a table, for those who do not see the picture. */
export function TerraceTable({ map, picked, pick }: { map: Terrace; picked: string[]; pick: Pick }) {
  const all = [...map.gates, ...map.channels].sort(
    (a, b) => b.counts.uncovered - a.counts.uncovered || b.counts.reject - a.counts.reject || sum(b) - sum(a),
  );
  return (
    <Box maxH="268px" overflowY="auto" borderWidth="1px" borderColor="line" borderRadius="5px">
      <chakra.table w="100%" fontSize="12px">
        <thead>
          <tr>
            {["From", "To", "uncovered", "reject", "permit", "Mostly"].map((h) => (
              <chakra.th
                key={h}
                textAlign="left"
                px="8px"
                py="3px"
                color="soft"
                fontWeight="500"
                position="sticky"
                top="0"
                bg="paper"
              >
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {all.map((p) => (
            <chakra.tr
              key={pathOf(p)}
              bg={picked.some((x) => x.startsWith(pathOf(p))) ? "tint" : undefined}
              _hover={{ bg: "tint" }}
              borderTopWidth="1px"
              borderColor="line2"
            >
              <chakra.td px="8px" py="2px">
                <chakra.button
                  type="button"
                  textDecoration="underline"
                  textDecorationColor="line"
                  onClick={() => pick([pathOf(p)])}
                >
                  {placeName(p.clientColumn)} {p.clientRow && placeName(p.clientRow)}
                </chakra.button>
              </chakra.td>
              <chakra.td px="8px">
                {placeName(p.serverColumn)} {p.serverRow && placeName(p.serverRow)}
              </chakra.td>
              {(["uncovered", "reject", "permit"] as const).map((v) => (
                <chakra.td key={v} px="8px" color={p.counts[v] ? ink[v] : "line"}>
                  {n(p.counts[v])}
                </chakra.td>
              ))}
              <chakra.td px="8px" color="soft">
                {p.top.map((s) => `${s.client} → ${s.server}`).join("; ")}
              </chakra.td>
            </chakra.tr>
          ))}
        </tbody>
      </chakra.table>
    </Box>
  );
}
