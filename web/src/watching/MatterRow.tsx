// One matter: who, what and why in a line; pressed, it opens in place.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import type { KeyboardEvent } from "react";
import { Mark, Spark } from "../marks/Marks";
import { fullTime, n, plural } from "../marks/words";
import { Opened } from "./Opened";
import { ago, became, type Matter, plain, stateWords } from "./watch";

type Props = {
  m: Matter;
  open: boolean;
  toggle: () => void;
  say: (how: "seen" | "with" | "settled" | "new") => void;
  matters: Matter[];
};

export function MatterRow({ m, open, toggle, say, matters }: Props) {
  const keys = (e: KeyboardEvent<HTMLElement>) => {
    if (e.target !== e.currentTarget || e.ctrlKey || e.metaKey || e.altKey) return;
    const move = (by: number) => {
      const rows = [...document.querySelectorAll<HTMLElement>("main [data-matter]")];
      rows[rows.indexOf(e.currentTarget) + by]?.focus();
    };
    if (e.key === "Enter" || e.key === " ") toggle();
    else if (e.key === "ArrowRight" && !open) toggle();
    else if (e.key === "ArrowLeft" && open) toggle();
    else if (e.key === "ArrowDown") move(1);
    else if (e.key === "ArrowUp") move(-1);
    else if (e.key === "e") say("seen");
    else if (e.key === "s") say("settled");
    else return;
    e.preventDefault();
  };
  return (
    <Box bg={open ? "tint" : undefined} borderBottomWidth="1px" borderColor="line2">
      <Flex
        role="button"
        aria-expanded={open}
        data-says={`${plain(m)}: ${m.why}`}
        tabIndex={0}
        data-row="0"
        data-matter={m.id}
        data-kind={m.kind}
        data-state={m.state}
        onClick={toggle}
        onKeyDown={keys}
        cursor="pointer"
        align="center"
        gap="10px"
        py="6px"
        pr="4px"
        _hover={{ bg: "tint" }}
        _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
      >
        <Box w="18px" flexShrink={0} textAlign="center">
          <KindMark kind={m.kind} />
        </Box>
        <Box flex="1" minW="0">
          <Text truncate>
            {m.title.map((p, i) => (p.strong ? <b key={i}>{p.text}</b> : <span key={i}>{p.text}</span>))}
          </Text>
          <Text color="soft" fontSize="12px" truncate title={m.why}>
            {m.why}
          </Text>
        </Box>
        {m.standing ? (
          <Box w="190px" />
        ) : (
          <>
            <Text
              w="110px"
              textAlign="right"
              fontVariantNumeric="tabular-nums"
              title={`${plural(m.conversations, "conversation")} on one day, ${plural(m.connections, "connection")}${m.within ? "" : " on its last day"}`}
            >
              <b>{n(m.connections)}</b> <chakra.span color="soft">{m.connections === 1 ? "time" : "times"}</chakra.span>
              {became(m) && (
                <chakra.span display="block" fontSize="11px" color="soft" data-became>
                  {became(m)}
                </chakra.span>
              )}
            </Text>
            <Box w="90px" opacity={m.within ? 1 : 0.3}>
              {m.spark.length > 0 && <Spark values={m.spark} width={86} />}
            </Box>
          </>
        )}
        <Text w="120px" color="soft" fontSize="12px" title={`first ${fullTime(m.first)}, last ${fullTime(m.last)}`}>
          {m.standing && !m.ended ? `since ${ago(m.first)}` : ago(m.last)}
          {m.days === 1 && ", for the first time"}
          {m.days > 1 && `, on ${plural(m.days, "day")}`}
        </Text>
        <Text
          w="130px"
          fontSize="12px"
          color={m.state === "new" ? "accent" : "soft"}
          fontWeight={m.state === "new" ? "600" : "400"}
          lineClamp={2}
          title={stateWords(m)}
        >
          {stateWords(m)}
        </Text>
      </Flex>
      {open && <Opened m={m} say={say} matters={matters} />}
    </Box>
  );
}

/** The mark of a kind: that of a verdict, or of what watches. */
export function KindMark({ kind }: { kind: string }) {
  switch (kind) {
    case "leak":
    case "choke":
      return <Mark kind={kind} size={12} />;
    case "held":
      return <Mark kind="reject" size={12} />;
    case "newcomer":
      return <Mark kind="uncovered" size={12} />;
    case "member":
      return <Mark kind="in" size={12} />;
    default:
      return <Mark kind="undecided" size={12} />;
  }
}
