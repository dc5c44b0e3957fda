// Before a wave enforces: the conditions that are not met, the machines into which nobody
// would get any more, and whether it is on trial.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api } from "../api/client";
import { useWindow } from "../frame/address";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { nameOf, unmet, type Wave } from "./waves";
import type { Order } from "./useOrder";

export function EnforceDialog({
  wave,
  release,
  enforce,
  close,
}: {
  wave: Wave;
  release: number;
  enforce: (more: Pick<Order, "anyway" | "without" | "minutes">, refused: (words: string) => void) => Promise<boolean>;
  close: () => void;
}) {
  const w = useWindow();
  const access = api.useQuery("get", "/api/v1/rollout/waves/{no}/access", {
    params: { path: { no: wave.no }, query: { ...w, limit: 200 } },
  });
  const [trial, setTrial] = useState(true);
  const [minutes, setMinutes] = useState("10");
  const [without, setWithout] = useState<string[]>([]);
  const [failed, setFailed] = useState("");
  const blocked = unmet(wave);
  const shut = access.data?.filter((m) => !m.open) ?? [];
  const confirmed = shut.every((m) => without.includes(m.id));
  const go = async () => {
    setFailed("");
    const done = await enforce(
      {
        anyway: blocked.length > 0,
        without: without.length > 0 ? without : undefined,
        minutes: trial ? Number(minutes) || 10 : 0,
      },
      setFailed,
    );
    if (done) close();
  };
  return (
    <Modal
      title={`Enforce release ${release} in ${wave.title ? nameOf(wave) : `wave ${wave.no}`}`}
      open
      size="lg"
      onClose={close}
      footer={
        <>
          <Btn primary data-enforce disabled={!access.data || !confirmed} onClick={() => void go()}>
            {blocked.length > 0 ? "Enforce anyway" : "Enforce"}
          </Btn>
          <Btn autoFocus onClick={close}>
            {blocked.length > 0 ? "Wait" : "Cancel"}
          </Btn>
        </>
      }
    >
      <Text>
        {plural(wave.of.length, "point")} will drop the traffic that release {release} rejects and end its running
        conversations. A rollback takes one press.
      </Text>
      {blocked.length > 0 && (
        <Box mt="10px">
          <Text fontWeight="600">Unmet conditions</Text>
          {blocked.map((c) => (
            <Flex key={c.key} gap="8px" py="3px" align="center">
              <Mark kind="reject" size={10} />
              <Text>{c.words}</Text>
            </Flex>
          ))}
        </Box>
      )}
      {shut.length > 0 && (
        <Box mt="10px" data-shut={shut.length}>
          <Flex justify="space-between">
            <Text fontWeight="600">No management access left to {plural(shut.length, "machine")}</Text>
            <label>
              <input
                type="checkbox"
                checked={confirmed}
                onChange={() => setWithout(confirmed ? [] : shut.map((m) => m.id))}
              />{" "}
              all of them
            </label>
          </Flex>
          <Box maxH="26vh" overflowY="auto">
            {shut.map((m) => (
              <Flex as="label" key={m.id} gap="8px" py="3px" borderBottomWidth="1px" borderColor="line2">
                <input
                  type="checkbox"
                  aria-label={`enforce although nobody could administer ${m.name}`}
                  checked={without.includes(m.id)}
                  onChange={(e) =>
                    setWithout(e.target.checked ? [...without, m.id] : without.filter((id) => id !== m.id))
                  }
                />
                <Text>
                  <b>{m.name}</b>: {m.words}
                </Text>
              </Flex>
            ))}
          </Box>
          <Text color="soft" fontSize="12.5px">
            Tick each machine for which you accept that. Or permit management access and release again.
          </Text>
        </Box>
      )}
      <Flex mt="12px" gap="8px" align="center">
        <label>
          <input type="checkbox" checked={trial} onChange={(e) => setTrial(e.target.checked)} /> On trial: the points
          return to what they run now unless somebody confirms within
        </label>
        <Entry
          w="56px"
          type="number"
          min={1}
          max={1440}
          aria-label="minutes of the trial"
          value={minutes}
          disabled={!trial}
          set={setMinutes}
        />
        <Text>minutes</Text>
      </Flex>
      {failed && <ProblemNote>{failed}</ProblemNote>}
    </Modal>
  );
}
