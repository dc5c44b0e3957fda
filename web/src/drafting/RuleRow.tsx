import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import type { KeyboardEvent } from "react";
import type { Schemas } from "../api/client";
import { useWhy } from "../frame/address";
import { Btn, Select } from "../marks/Controls";
import { Mark, Spark } from "../marks/Marks";
import { atMinute, n, plural } from "../marks/words";
import { Findings } from "./Findings";
import { useEdit } from "./useEdit";

type Statement = Schemas["StatementOut"];
type Props = {
  policy: Schemas["PolicyOut"];
  statement: Statement;
  above?: number;
  below?: number;
  afterBelow?: number;
  layers: string[];
  selected: boolean;
  onSelect: () => void;
  onMoved: (line: number, base: number) => void; // to another line, by one place, from a revision on
  onEdit: () => void;
};

/** A rule as a sentence, with what it decides; selected, with what can be done. */
export function RuleRow({
  policy,
  statement: s,
  above,
  below,
  afterBelow,
  layers,
  selected,
  onSelect,
  onMoved,
  onEdit,
}: Props) {
  const { show } = useWhy();
  const { tryEdit, busy } = useEdit();
  const r = s.rule!;
  const edit = (body: Omit<Schemas["EditIn"], "revision">) => tryEdit({ ...body, revision: policy.revision });
  const up = async () => {
    if (above && (await edit({ op: "move", line: s.line, before: above }))) onMoved(above, policy.revision);
  };
  const down = async () => {
    if (
      below &&
      (await edit(
        afterBelow ? { op: "move", line: s.line, before: afterBelow } : { op: "move", line: s.line, layer: r.layer },
      ))
    )
      onMoved(below, policy.revision);
  };
  const remove = () => {
    if (selected) onSelect(); // or the next rule would be the selected one, and take the next press
    void edit({ op: "remove", line: s.line });
  };
  const keys = (e: KeyboardEvent) => {
    if (e.target !== e.currentTarget || busy) return;
    const mod = e.ctrlKey || e.metaKey;
    if (mod && e.key === "ArrowUp") void up();
    else if (mod && e.key === "ArrowDown") void down();
    else if (e.key === "Enter") onSelect();
    else if (e.key === "e") onEdit();
    else if (e.key === "o") void edit({ op: "switch", line: s.line });
    else if (e.key === "Delete") remove();
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  return (
    <Box
      borderBottomWidth="1px"
      borderColor="line2"
      bg={selected ? "tint" : undefined}
      borderLeftWidth="3px"
      borderLeftColor={selected ? "accent" : "transparent"}
      ml="-3px"
    >
      <Flex
        data-row="0"
        data-rule={s.line}
        tabIndex={0}
        role="button"
        aria-expanded={selected}
        data-sentence={r.sentence}
        onClick={onSelect}
        onKeyDown={keys}
        align="center"
        gap="8px"
        py="4px"
        cursor="pointer"
        opacity={r.off ? 0.55 : 1}
        _hover={{ bg: "tint" }}
        _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
      >
        <Text w="25px" color="soft" textAlign="right" flexShrink={0} title={`line ${s.line} of the policy text`}>
          {s.line}
        </Text>
        <Mark kind={r.action === "permit" ? "permit" : "reject"} />
        <Box flex="1" minW="0">
          <RuleSentence rule={r} />
          {s.note && <chakra.span color="soft"> “{s.note}”</chakra.span>}
          {s.findings?.map((f) => (
            <chakra.span
              key={f.kind}
              title={f.words}
              color="open"
              fontSize="12px"
              ml="6px"
              borderBottomWidth="1px"
              borderStyle="dashed"
              borderColor="open"
            >
              {f.kind}
            </chakra.span>
          ))}
        </Box>
        {s.spark && <Spark values={s.spark} width={64} />}
        <Text
          w="48px"
          textAlign="right"
          flexShrink={0}
          title={
            s.hits
              ? `${plural(s.hits, "conversation")} of the window between ${plural(s.pairs, "pair")}; last seen ${atMinute(s.last!)}`
              : "no conversation of the window"
          }
        >
          {n(s.hits)}
        </Text>
      </Flex>
      {selected && s.findings && (
        <Findings revision={policy.revision} line={s.line} findings={s.findings} about={r.sentence} />
      )}
      {selected && (
        <Flex gap="6px" pl="52px" pb="6px" wrap="wrap" align="center">
          <Text color="soft" w="100%" data-use={s.pairs}>
            {s.hits
              ? `Decides ${plural(s.hits, "conversation")} of the window between ${plural(s.pairs, "pair")}; last seen ${atMinute(s.last!)}.`
              : "Decides nothing that was seen in the window."}
          </Text>
          <Btn onClick={onEdit}>Edit</Btn>
          <Btn onClick={() => void up()} disabled={!above || busy}>
            Up
          </Btn>
          <Btn onClick={() => void down()} disabled={!below || busy}>
            Down
          </Btn>
          <Select
            aria-label="move to another layer"
            px="4px"
            value={r.layer}
            onChange={(e) => void edit({ op: "move", line: s.line, layer: e.target.value })}
          >
            {layers.map((l) => (
              <option key={l} value={l}>
                in {l}
              </option>
            ))}
          </Select>
          <Btn onClick={() => void edit({ op: "switch", line: s.line })}>{r.off ? "Turn on" : "Turn off"}</Btn>
          <Btn onClick={remove} disabled={busy}>
            Remove
          </Btn>
          <Btn onClick={() => show({ kind: "rule", line: s.line })}>Why</Btn>
        </Flex>
      )}
    </Box>
  );
}

/** A rule in words, client to server. */
export function RuleSentence({ rule: r }: { rule: Schemas["RuleOut"] }) {
  const names = (list: string[]) => <b>{list.join(", ")}</b>;
  return (
    <>
      {r.off && <chakra.span color="soft">off: </chakra.span>}
      {r.action === "apart" ? (
        <>{names(r.left)} are kept apart</>
      ) : (
        <>
          {names(r.left)} {r.action === "permit" ? "may reach" : "may not reach"} {names(r.right)} on {r.on.join(", ")}
        </>
      )}
      {r.clauses && <chakra.span color="soft">{r.clauses}</chakra.span>}
    </>
  );
}
