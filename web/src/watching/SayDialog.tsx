// What somebody says of a matter: assignee it is, or why it is settled and for how long.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { type Matter, plain } from "./watch";

type How = "seen" | "with" | "settled" | "new";

/** Keeps a state of matters at once. */
export function useSay() {
  const { mutateAsync } = api.useMutation("post", "/api/v1/watch/matters/state");
  return async (list: Matter[], state: How, more: { holder?: string; note?: string; again?: string } = {}) => {
    const out = await mutateAsync({ body: { ids: list.map((m) => m.id), state, ...more } });
    await caughtUp(["watch"]);
    return out.changed;
  };
}

export function SayDialog({ list, how, close }: { list: Matter[]; how: "with" | "settled"; close: () => void }) {
  const keep = useSay();
  const [text, setText] = useState("");
  const [again, setAgain] = useState("");
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const run = async () => {
    setBusy(true);
    try {
      const at = again ? new Date(`${again}T00:00:00`).toISOString() : undefined;
      const changed = await keep(list, how, how === "with" ? { holder: text } : { note: text, again: at });
      say(how === "with" ? `${plural(changed, "matter")} with ${text}` : `${plural(changed, "matter")} settled`);
      close();
    } catch (e) {
      setWrong(problem(e));
    }
    setBusy(false);
  };
  return (
    <Modal
      title={how === "with" ? "Assign to whom?" : "Why is it settled?"}
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn onClick={close}>Cancel</Btn>
          <Btn primary loading={busy} disabled={!text.trim()} onClick={() => void run()}>
            {how === "with" ? "Keep" : "Settle"}
          </Btn>
        </>
      }
    >
      <Text mb="8px">{list.length === 1 ? plain(list[0]!) : plural(list.length, "matter")}</Text>
      <Entry
        w="100%"
        autoFocus
        aria-label={how === "with" ? "assignee" : "why"}
        placeholder={how === "with" ? "Somebody, or a team" : "For example: an old job; its owner knows"}
        value={text}
        set={setText}
        onKeyDown={(e) => e.key === "Enter" && text.trim() && void run()}
      />
      {how === "settled" && (
        <>
          <Flex mt="10px" gap="8px" align="center">
            <chakra.label htmlFor="again">Reopen it on</chakra.label>
            <Entry id="again" type="date" w="150px" value={again} set={setAgain} />
            <Text color="soft">or never by date</Text>
          </Flex>
          <Text mt="8px" color="soft">
            It reopens automatically when a day has half as many conversations again as any day before, and at least
            three more.
          </Text>
        </>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
