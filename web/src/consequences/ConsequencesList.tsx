// What a change does, before it is saved.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { Mark } from "../marks/Marks";
import { n } from "../marks/words";

type C = Schemas["Consequences"];

export function ConsequencesList({ c }: { c: C }) {
  return (
    <Flex gap="36px" rowGap="6px" wrap="wrap" data-consequences={c.changed}>
      {c.doubts.length > 0 && (
        <Box w="100%" data-doubts={c.doubts.length} role="status">
          {c.doubts.slice(0, 8).map((d) => (
            <Text key={d} color="open" fontWeight="600">
              {d}
            </Text>
          ))}
          {c.doubts.length > 8 && <Text color="open">and {n(c.doubts.length - 8)} more</Text>}
        </Box>
      )}
      {c.groups.length > 0 && <Groups c={c} />}
      <Box>
        <Text color="soft">conversations that change verdict</Text>
        {c.conversations.map((v) => (
          <Text key={v.before + v.after} title={v.examples?.join("\n")}>
            <Mark kind={v.before} /> → <Mark kind={v.after} /> <b>{n(v.count)}</b> {v.before} → {v.after}
            {v.rules.length > 0 && (
              <chakra.span color="soft"> through line {v.rules.slice(0, 4).join(", ")}</chakra.span>
            )}
          </Text>
        ))}
        {c.changed === 0 && <Text>none in the window</Text>}
      </Box>
      {c.opens.pairs > 0 && (
        <Box data-opens={c.opens.unseen}>
          <Text color="soft">pairs of machines that it opens</Text>
          <Text>
            <b>{n(c.opens.pairs)}</b>
            {c.opens.unseen > 0 ? `, ${n(c.opens.unseen)} of them never seen` : ", all of them seen"}
          </Text>
        </Box>
      )}
      <Box>
        <Text color="soft">assertions</Text>
        {c.asserts.map((a) => (
          <Text
            key={a.sentence}
            color={a.after === "broken" || a.after === "gone" ? "reject" : undefined}
            fontWeight={a.after === "broken" || a.after === "gone" ? "600" : undefined}
            data-assert={a.after}
          >
            {a.before || "new"} → {a.after === "gone" ? "no longer asserted" : a.after}:{" "}
            {a.sentence.replace("assert ", "")}
          </Text>
        ))}
        {c.asserts.length === 0 && <Text>no change</Text>}
      </Box>
      {c.probes.length > 0 && (
        <Box data-probes={c.probes.length}>
          <Text color="soft">probes</Text>
          {c.probes.map((p) => (
            <Text
              key={p.question}
              color={p.asExpected ? undefined : "reject"}
              fontWeight={p.asExpected ? undefined : "600"}
              title={p.words}
            >
              {p.asExpected ? "as expected again" : `no longer ${p.want}`}: {p.question}
            </Text>
          ))}
        </Box>
      )}
    </Flex>
  );
}

function Groups({ c }: { c: C }) {
  const some = (names: string[]) => names.slice(0, 3).join(", ") + (names.length > 3 ? " …" : "");
  const parts = [
    ["would join", "joins", "joinCount", "+"],
    ["would leave", "leaves", "leaveCount", "−"],
    ["would become undecided", "undecided", "undecidedCount", "?"],
  ] as const;
  return parts.map(([title, field, count, sign]) => {
    const list = c.groups.filter((g) => g[count] > 0);
    if (list.length === 0) return null;
    return (
      <Box key={field}>
        <Text color="soft">{title}</Text>
        {list.slice(0, 5).map((g) => (
          <Text key={g.group} title={some(g[field])}>
            {g.group}{" "}
            <b>
              {sign}
              {n(g[count])}
            </b>
          </Text>
        ))}
        {list.length > 5 && <Text color="soft">and {n(list.length - 5)} more groups</Text>}
      </Box>
    );
  });
}
