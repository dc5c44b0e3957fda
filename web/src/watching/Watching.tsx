// Which groups are watched: for callers never seen before, for those that stop coming,
// and for who joins or leaves.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { Btn, Chip, Entry, Link, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import type { Watch } from "./watch";

export function Watching({ w }: { w: Watch }) {
  const [open, setOpen] = useState(false);
  const { groups, chosen } = w.watched;
  return (
    <Text color="soft" fontSize="12.5px">
      {groups.length
        ? `Watched for new callers, missing callers and changes of members: ${groups.join(", ")}${chosen ? "" : " (protected by assertions)"}.  `
        : "No group is watched for new callers, because no assertion protects one. "}
      <Link onClick={() => setOpen(true)}>Choose groups…</Link>
      {open && <Choose first={groups} close={() => setOpen(false)} />}
    </Text>
  );
}

function Choose({ first, close }: { first: string[]; close: () => void }) {
  const all = api.useQuery("get", "/api/v1/groups");
  const put = api.useMutation("put", "/api/v1/watch/groups");
  const [chosen, setChosen] = useState(first);
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState<string>();
  const names = (all.data ?? []).map((g) => g.name);
  const found = names.filter((g) => !chosen.includes(g) && g.includes(text.trim().toLowerCase())).slice(0, 12);
  const run = async (groups: string[]) => {
    try {
      await put.mutateAsync({ body: { groups } });
      await caughtUp(["watch"]);
      close();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Modal
      title="Which groups are watched?"
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn onClick={() => void run([])}>Those that assertions protect</Btn>
          <Btn onClick={close}>Cancel</Btn>
          <Btn primary loading={put.isPending} disabled={chosen.length === 0} onClick={() => void run(chosen)}>
            Watch {chosen.length === 1 ? "it" : "them"}
          </Btn>
        </>
      }
    >
      <Text mb="8px">
        A matter opens when a new caller reaches a member, when a daily caller stops, and when a workload joins or
        leaves.
      </Text>
      <Flex gap="6px" wrap="wrap" mb="8px">
        {chosen.map((g) => (
          <Chip key={g} onRemove={() => setChosen(chosen.filter((x) => x !== g))}>
            {g}
          </Chip>
        ))}
      </Flex>
      <Entry
        w="100%"
        autoFocus
        aria-label="a group"
        placeholder="Name of a group"
        value={text}
        set={setText}
        onKeyDown={(e) => {
          if (e.key !== "Enter" || !found[0]) return;
          setChosen([...chosen, found[0]]);
          setText("");
        }}
      />
      <Flex gap="6px" wrap="wrap" mt="6px">
        {found.map((g) => (
          <chakra.button
            key={g}
            type="button"
            cursor="pointer"
            textDecoration="underline"
            onClick={() => setChosen([...chosen, g])}
          >
            {g}
          </chakra.button>
        ))}
      </Flex>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
