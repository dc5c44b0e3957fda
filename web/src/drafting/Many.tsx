// Many proposals at once: what taking them does, before it is done.
import { Text } from "@chakra-ui/react";
import { useState } from "react";
import { problem } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { chosen, type Taken, useConsequences, type useJudging } from "./judging";

type Props = {
  what: "take" | "as one" | "refuse";
  list: Taken[];
  revision: number;
  judging: ReturnType<typeof useJudging>;
  close: () => void;
};

export function Many({ what, list, revision, judging, close }: Props) {
  const [all] = useState(list); // those that were shown when it was asked for
  const [reason, setReason] = useState("");
  const c = useConsequences(all, revision, what !== "refuse", what === "as one");
  const go = () => {
    close();
    if (what === "take") void judging.take(all);
    else if (what === "as one") void judging.takeAsOne(all);
    else
      void judging.refuse(
        all.map((x) => x.p),
        reason.trim(),
      );
  };
  const warned = all.filter(({ p }) => p.warnings.length > 0).length;
  return (
    <Modal
      title={
        what === "as one"
          ? `Take ${plural(all.length, "proposal")} as one rule?`
          : `${what === "take" ? "Take" : "Refuse"} ${plural(all.length, "proposal")}?`
      }
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn primary onClick={go} disabled={what !== "refuse" && !c.data}>
            {what === "as one" ? "Take one rule" : `${what === "take" ? "Take" : "Refuse"} all ${all.length}`}
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      {what === "as one" && (
        <Text mb="8px" data-as-one>
          {c.data ? c.data.words : "…"}. It applies within every application that has these tiers, future ones included.
          It replaces:
        </Text>
      )}
      {all.slice(0, 12).map((x) => (
        <Text key={x.p.id} truncate>
          {chosen(x).sentence}
        </Text>
      ))}
      {all.length > 12 && <Text color="soft">and {all.length - 12} more</Text>}
      {what !== "refuse" && warned > 0 && (
        <ProblemNote>
          {plural(warned, "proposal")} of these {warned === 1 ? "carries" : "carry"} a warning: judge{" "}
          {warned === 1 ? "it" : "them"} one by one, or tick “no warnings” first.
        </ProblemNote>
      )}
      {what === "refuse" && (
        <Entry
          mt="8px"
          autoFocus
          placeholder="Why not? The reason is saved with each."
          aria-label="reason for refusing all"
          value={reason}
          set={setReason}
        />
      )}
      {c.error && <ProblemNote>{problem(c.error)}</ProblemNote>}
      {c.data?.consequences && <ConsequencesList c={c.data.consequences} />}
    </Modal>
  );
}
