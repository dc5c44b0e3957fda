// What can be done now: the next step, with what it waits for; holding the roll-out; and
// the way back.
import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { useAddress } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, inputStyle, Link } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { atMinute, n, plural } from "../marks/words";
import { behind, nameOf, nextStep, type Point, type RollOut, type Step, troubled, unmet, wavesOf } from "./waves";

export function Steps({ r, add }: { r: RollOut; add: () => void }) {
  const aim = api.useMutation("post", "/api/v1/rollout/aim");
  const hold = useHold();
  const { change } = useAddress();
  const [asking, setAsking] = useState<Step>();
  const [holding, setHolding] = useState(false);
  const newest = r.releases[0];
  const step = newest && nextStep(wavesOf(r));
  const tell = async (
    points: Point[],
    release: number,
    mode: "off" | "observe" | "enforce",
    done: string,
    anyway = false,
  ) => {
    try {
      await aim.mutateAsync({ body: { points: points.map((p) => p.name), release, mode, anyway } });
      say(done);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  const take = (s: Step, anyway = false) =>
    tell(
      behind(s, newest!.no),
      newest!.no,
      s.mode,
      `${nameOf(s.wave)} ${s.mode === "observe" ? "observes" : "enforces"} release ${newest!.no}`,
      anyway,
    );
  const on = newest ? r.points.filter((p) => p.release === newest.no) : [];
  const former = newest && r.releases.find((x) => x.no === newest.no - 1);
  const back = async () => {
    // Each goes back in the mode in which it is.
    for (const mode of ["observe", "enforce"] as const) {
      const some = on.filter((p) => p.mode === mode);
      if (some.length === 0) continue;
      await tell(
        some,
        former?.no ?? 0,
        former ? mode : "off",
        former ? `Back to release ${former.no}` : "They hold nothing any more",
      );
    }
  };
  const waits = step?.mode === "enforce" && unmet(step.wave).length > 0;
  return (
    <>
      <Flex gap="10px" mt="10px" align="center" wrap="wrap">
        {step && !r.hold && (
          <Btn
            primary
            data-next={`${step.wave.no} ${step.mode}`}
            data-waits={waits || undefined}
            loading={aim.isPending}
            onClick={() => (waits ? setAsking(step) : void take(step))}
          >
            {step.mode === "observe" ? "Observe in" : "Enforce in"}{" "}
            {step.wave.title ? nameOf(step.wave) : `wave ${step.wave.no}`}
            {waits && "…"}
          </Btn>
        )}
        {r.hold && (
          <Btn primary onClick={() => void hold(false)}>
            Go on
          </Btn>
        )}
        {step && !r.hold && on.length > 0 && <Btn onClick={() => setHolding(true)}>Hold…</Btn>}
        {on.length > 0 && (
          <Btn onClick={() => void back()}>{former ? `Back to release ${former.no}` : "Hold nothing again"}</Btn>
        )}
        {!r.hold && (
          <Btn primary={!newest} onClick={() => change({ release: "new" })}>
            Release…
          </Btn>
        )}
        <Btn onClick={add}>Add a point…</Btn>
        <Text ml="auto" color="soft" fontSize="12px">
          {plural(r.points.length, "enforcement point")}
          {troubled(r.points).length > 0 && ` · ${n(troubled(r.points).length)} not as it should be`}
        </Text>
      </Flex>
      {r.hold && (
        <Text mt="6px" data-held>
          {r.hold.author} holds the roll-out since {atMinute(r.hold.at)}
          {r.hold.reason && `: ${r.hold.reason}`}. Nothing goes on; going back is open.
        </Text>
      )}
      {asking && (
        <Modal
          title={`${nameOf(asking.wave)} is not ready to enforce`}
          open
          size="lg"
          onClose={() => setAsking(undefined)}
          footer={
            <>
              <Btn
                primary
                onClick={() => {
                  setAsking(undefined);
                  void take(asking, true);
                }}
              >
                Enforce all the same
              </Btn>
              <Btn autoFocus onClick={() => setAsking(undefined)}>
                Wait
              </Btn>
            </>
          }
        >
          <Text mb="4px">It waits for what is not so:</Text>
          {unmet(asking.wave).map((c) => (
            <Flex key={c.key} gap="8px" py="3px" align="center">
              <Mark kind="reject" size={10} />
              <Text>{c.words}</Text>
            </Flex>
          ))}
          <Text mt="8px" color="soft" fontSize="12.5px">
            From then on its points drop what release {newest?.no} rejects, and end what runs of it. Going back is one
            press.
          </Text>
        </Modal>
      )}
      {holding && <HoldDialog close={() => setHolding(false)} />}
    </>
  );
}

/** Holds the roll-out, or lets it go on. */
function useHold() {
  const put = api.useMutation("put", "/api/v1/rollout/hold");
  return async (hold: boolean, reason = "") => {
    try {
      await put.mutateAsync({ body: { hold, reason } });
      say(hold ? "The roll-out is held" : "The roll-out goes on");
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
}

function HoldDialog({ close }: { close: () => void }) {
  const [reason, setReason] = useState("");
  const hold = useHold();
  return (
    <Modal
      title="Hold the roll-out"
      open
      size="sm"
      onClose={close}
      footer={
        <>
          <Btn primary onClick={() => void hold(true, reason).then(close)}>
            Hold
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      <Input
        {...inputStyle}
        autoFocus
        aria-label="why"
        placeholder="Why? The owner of fares is away until Monday"
        maxLength={500}
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      />
      <Text mt="8px" color="soft" fontSize="12.5px">
        Points keep what they hold. No wave goes on, by itself or by anybody, until somebody lets it; going back stays
        open.
      </Text>
    </Modal>
  );
}

/** What a wave that observes waits for; each with where to look. */
export function Before({ r, look }: { r: RollOut; look: (query: string) => void }) {
  const step = r.releases[0] && nextStep(wavesOf(r));
  const newest = r.releases[0];
  const links: Record<string, string> = {
    asserts: "part=assertions",
    wayBack: "part=assertions",
    probes: "part=ask",
  };
  const left = r.before.uncovered;
  return (
    <Box data-before>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        Before {step ? (step.wave.title ? nameOf(step.wave) : `wave ${step.wave.no}`) : "it"} may enforce
      </Text>
      {!newest && <Text color="soft">Nothing was released yet.</Text>}
      {newest && !step && <Text color="soft">Every wave enforces release {newest.no}.</Text>}
      {step?.mode === "observe" && <Text color="soft">It has to observe release {newest!.no} first.</Text>}
      {step?.wave.conditions.map((c) => (
        <Flex
          key={c.key}
          gap="8px"
          py="4px"
          borderBottomWidth="1px"
          borderColor="line2"
          align="center"
          data-condition={c.key}
          data-met={c.met}
        >
          <Mark kind={c.met ? "permit" : c.asked ? "reject" : "uncovered"} size={10} />
          <Text flex="1">{c.words}</Text>
          {!c.asked && !c.met && (
            <Text color="soft" fontSize="12px">
              not asked
            </Text>
          )}
          {!c.met && links[c.key] && (
            <Link color="soft" onClick={() => look(links[c.key]!)}>
              look
            </Link>
          )}
        </Flex>
      ))}
      {newest && left > 0 && (
        <Flex gap="8px" py="4px" borderBottomWidth="1px" borderColor="line2" align="center">
          <Mark kind="uncovered" size={10} />
          <Text flex="1">{plural(left, "conversation")} left uncovered: they are carried, and counted</Text>
          <Link color="soft" onClick={() => look(`against=${newest.revision}&was=uncovered`)}>
            look
          </Link>
        </Flex>
      )}
    </Box>
  );
}
