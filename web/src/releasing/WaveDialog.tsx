// The conditions under which a wave enforces.
import { Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { nameOf, type Wave } from "./waves";

const conditions = [
  ["asserts", "all assertions hold"],
  ["probes", "all probes get the expected verdict"],
  ["settled", "all traffic of the window that it would reject is rightly rejected"],
] as const;

export function WaveDialog({ wave, close }: { wave: Wave; close: () => void }) {
  const put = api.useMutation("put", "/api/v1/rollout/waves/{no}");
  const [x, setX] = useState({ ...wave, hours: String(wave.minutes / 60) });
  const [failed, setFailed] = useState("");
  const go = async () => {
    setFailed("");
    try {
      const { title, asserts, probes, wayBack, settled, byItself } = x;
      await put.mutateAsync({
        params: { path: { no: wave.no } },
        body: {
          title,
          minutes: Math.max(0, Math.round(60 * Number(x.hours) || 0)),
          asserts,
          probes,
          wayBack,
          settled,
          byItself,
        },
      });
      say(`The conditions of ${nameOf(x)} are saved`);
      close();
    } catch (e) {
      setFailed(problem(e));
    }
    await caughtUp();
  };
  return (
    <Modal
      title={nameOf(wave)}
      open
      size="lg"
      onClose={close}
      footer={
        <>
          <Btn primary loading={put.isPending} onClick={() => void go()}>
            Save
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      <Flex direction="column" gap="8px">
        <Entry
          autoFocus
          aria-label="what the wave is called"
          placeholder="what it is called: live, southquay"
          maxLength={80}
          value={x.title}
          set={(v) => setX({ ...x, title: v })}
        />
        <Flex gap="8px" align="center">
          <Text>It observes at least</Text>
          <Entry
            type="number"
            min={0}
            step="any"
            w="80px"
            aria-label="hours that it observes"
            value={x.hours}
            set={(v) => setX({ ...x, hours: v })}
          />
          <Text>hours, then waits until</Text>
        </Flex>
        {conditions.map(([key, words]) => (
          <label key={key}>
            <input type="checkbox" checked={x[key]} onChange={(e) => setX({ ...x, [key]: e.target.checked })} /> {words}
          </label>
        ))}
        <label>
          <input type="checkbox" checked={x.byItself} onChange={(e) => setX({ ...x, byItself: e.target.checked })} />{" "}
          then it enforces automatically
        </label>
        <Text color="soft" fontSize="12.5px">
          Its points must also have loaded the release, reach their server under it, and leave every machine management
          access.
        </Text>
        {failed && <ProblemNote>{failed}</ProblemNote>}
      </Flex>
    </Modal>
  );
}
