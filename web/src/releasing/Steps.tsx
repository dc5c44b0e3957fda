// What can be done now: the next step, a pause, a rollback, and confirming a trial.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, Link } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { atMinute, n, plural } from "../marks/words";
import { AccessDialog } from "./AccessDialog";
import { EnforceDialog } from "./EnforceDialog";
import { useOrder } from "./useOrder";
import { behind, modeOf, nameOf, nextStep, type RollOut, type Step, troubled, unmet, wavesOf } from "./waves";

export function Steps({ r, add }: { r: RollOut; add: () => void }) {
  const order = useOrder();
  const pause = usePause();
  const { change } = useAddress();
  const [asking, setAsking] = useState<Step>();
  const [pausing, setPausing] = useState(false);
  const newest = r.releases[0];
  const w = useWindow();
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const empty = !newest && summary.data?.rules === 0;
  const step = newest && nextStep(wavesOf(r));
  const on = newest ? r.points.filter((p) => modeOf(p, newest.no) !== "off") : [];
  const former = newest && r.releases[1];
  const back = () =>
    former
      ? order.send({ do: "roll back", release: former.no }, `Rollback to release ${former.no}`)
      : order.send({ do: "off" }, "The points no longer run a release");
  const observe = (s: Step) =>
    order.send(
      { do: "observe", release: newest!.no, points: behind(s, newest!.no).map((p) => p.name) },
      `${nameOf(s.wave)} observes release ${newest!.no}`,
    );
  const waits = step?.mode === "enforce" && unmet(step.wave).length > 0;
  return (
    <>
      <Trial r={r} />
      <Flex gap="10px" mt="10px" align="center" wrap="wrap">
        {step && !r.hold && (
          <Btn
            primary
            data-next={`${step.wave.no} ${step.mode}`}
            data-waits={waits || undefined}
            loading={order.pending}
            onClick={() => (step.mode === "enforce" ? setAsking(step) : void observe(step))}
          >
            {step.mode === "observe" ? "Observe in" : "Enforce in"}{" "}
            {step.wave.title ? nameOf(step.wave) : `wave ${step.wave.no}`}
            {step.mode === "enforce" && "…"}
          </Btn>
        )}
        {r.hold && (
          <Btn primary onClick={() => void pause(false)}>
            Resume
          </Btn>
        )}
        {step && !r.hold && on.length > 0 && <Btn onClick={() => setPausing(true)}>Pause…</Btn>}
        {on.length > 0 && (
          <Btn onClick={() => void back()} title={former ? undefined : "All traffic is then carried"}>
            {former ? `Roll back to release ${former.no}` : "Off at all points"}
          </Btn>
        )}
        {!r.hold && (
          <Btn
            primary={!newest && r.points.length > 0 && !empty}
            disabled={empty}
            title={empty ? "The draft has no rules yet" : undefined}
            onClick={() => change({ release: "new" })}
          >
            Release…
          </Btn>
        )}
        <Btn primary={r.points.length === 0} onClick={add}>
          Add a point…
        </Btn>
        <Text ml="auto" color="soft" fontSize="12px">
          {plural(r.points.length, "enforcement point")}
          {troubled(r.points).length > 0 && ` · ${n(troubled(r.points).length)} not as ordered`}
        </Text>
      </Flex>
      {r.hold && (
        <Text mt="6px" data-held>
          {r.hold.author} paused the roll-out at {atMinute(r.hold.at)}
          {r.hold.reason && `: ${r.hold.reason}`}. No wave starts; a rollback is possible.
        </Text>
      )}
      {asking && (
        <EnforceDialog
          wave={asking.wave}
          release={newest!.no}
          close={() => setAsking(undefined)}
          enforce={(more, refused) =>
            order.send(
              { do: "enforce", release: newest!.no, points: behind(asking, newest!.no).map((p) => p.name), ...more },
              `${nameOf(asking.wave)} enforces release ${newest!.no}`,
              refused,
            )
          }
        />
      )}
      {pausing && <PauseDialog close={() => setPausing(false)} />}
    </>
  );
}

/** Enforcement on trial: it ends by itself unless somebody confirms it here. */
function Trial({ r }: { r: RollOut }) {
  const order = useOrder();
  const on = r.points.filter((p) => p.trialUntil);
  if (on.length === 0) return null;
  const ends = Math.min(...on.map((p) => Date.parse(p.trialUntil!)));
  return (
    <Flex
      mt="10px"
      gap="10px"
      align="center"
      borderWidth="1px"
      borderColor="accent"
      px="10px"
      py="6px"
      data-trial={on.length}
    >
      <Text flex="1">
        Enforcement is on trial at {plural(on.length, "point")}: {on.length === 1 ? "it returns" : "they return"} to
        what ran before at {atMinute(new Date(ends).toISOString())} unless you confirm. Check first that you can still
        log in.
      </Text>
      <Btn
        primary
        loading={order.pending}
        onClick={() =>
          void order.send({ do: "confirm", points: on.map((p) => p.name) }, "Confirmed: it stays enforced")
        }
      >
        Confirm
      </Btn>
    </Flex>
  );
}

/** Pauses the roll-out, or resumes it. */
function usePause() {
  const put = api.useMutation("put", "/api/v1/rollout/hold");
  return async (hold: boolean, reason = "") => {
    try {
      await put.mutateAsync({ body: { hold, reason } });
      say(hold ? "The roll-out is paused" : "The roll-out is resumed");
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
}

function PauseDialog({ close }: { close: () => void }) {
  const [reason, setReason] = useState("");
  const pause = usePause();
  return (
    <Modal
      title="Pause the roll-out"
      open
      size="sm"
      onClose={close}
      footer={
        <>
          <Btn primary onClick={() => void pause(true, reason).then(close)}>
            Pause
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      <Entry
        autoFocus
        aria-label="why"
        placeholder="Why? The owner of fares is away until Monday"
        maxLength={500}
        value={reason}
        set={setReason}
      />
      <Text mt="8px" color="soft" fontSize="12.5px">
        Points keep running what they run. No wave starts until somebody resumes the roll-out. A rollback stays
        possible.
      </Text>
    </Modal>
  );
}

/** The conditions of the wave that observes; each with where to look. */
export function Before({ r, look }: { r: RollOut; look: (query: string) => void }) {
  const step = r.releases[0] && nextStep(wavesOf(r));
  const newest = r.releases[0];
  const links: Record<string, string> = {
    asserts: "part=assertions",
    probes: "part=ask",
  };
  const left = r.before.uncovered;
  const [access, setAccess] = useState(false);
  return (
    <Box data-before>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        Before {step ? (step.wave.title ? nameOf(step.wave) : `wave ${step.wave.no}`) : "it"} may enforce
      </Text>
      {!newest && <Text color="soft">There is no release yet.</Text>}
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
          {c.key === "wayBack" && (
            <Link color="soft" onClick={() => setAccess(true)}>
              machines…
            </Link>
          )}
          {!c.met && links[c.key] && (
            <Link color="soft" onClick={() => look(links[c.key]!)}>
              look
            </Link>
          )}
        </Flex>
      ))}
      {access && step && <AccessDialog wave={step.wave} release={newest!.no} close={() => setAccess(false)} />}
      {newest && left > 0 && (
        <Flex gap="8px" py="4px" borderBottomWidth="1px" borderColor="line2" align="center">
          <Mark kind="uncovered" size={10} />
          <Text flex="1">{plural(left, "conversation")} left uncovered: carried and counted</Text>
          <Link color="soft" onClick={() => look(`against=${newest.revision}&was=uncovered`)}>
            look
          </Link>
        </Flex>
      )}
    </Box>
  );
}
