// Release: what is in force where, how far the newest release has come, and the next step.
import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { PageLink } from "../frame/PageLink";
import { Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { n, plural } from "../marks/words";
import { AddPoint } from "./AddPoint";
import { PointDialog } from "./PointDialog";
import { Reaches } from "./Reaches";
import { Rejections } from "./Rejections";
import { Releases } from "./Releases";
import { Before, Steps } from "./Steps";
import { WaveColumn } from "./WaveColumn";
import { WaveDialog } from "./WaveDialog";
import {
  enforcedBeside,
  nameOf,
  nextStep,
  runs,
  type Point,
  type RollOut,
  troubled,
  type Wave,
  wavesOf,
} from "./waves";

export function ReleaseView() {
  const w = useWindow();
  const { search, change } = useAddress();
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/rollout",
    { params: { query: w } },
    { refetchInterval: 2000 }, // what points count, and that one falls silent, nobody tells
  );
  const [adding, setAdding] = useState(false);
  const [wave, setWave] = useState<Wave>();
  const navigate = useNavigate();
  const carried = useCarried();
  if (error && !data) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  const shown = data.points.find((p) => p.name === search.get("point"));
  const step = data.releases[0] && nextStep(wavesOf(data));
  return (
    <Grid templateColumns={{ base: "minmax(0,1fr)", md: "minmax(0,1fr) 330px" }} h="100%" minH="0">
      <Box overflowY="auto" px="20px" py="12px" minW="0">
        <Lead r={data} />
        <Steps r={data} add={() => setAdding(true)} />
        <Lately r={data} />
        {data.points.length === 0 ? (
          <Empty title="No enforcement point yet">
            An enforcement point applies releases to the traffic of the workloads that it guards. It is a Linux machine
            that guards itself, or a machine in the path. <Link onClick={() => setAdding(true)}>Create one</Link>, and
            start it with the token that you get.
          </Empty>
        ) : (
          <Flex gap="14px" mt="12px" wrap="wrap" align="flex-start">
            {wavesOf(data).map((wave) => (
              <WaveColumn
                key={wave.no}
                wave={wave}
                release={data.releases[0]?.no}
                open={(p) => change({ point: p.name })}
                ask={() => setWave(wave)}
              />
            ))}
          </Flex>
        )}
        {step?.mode === "enforce" && <Rejections wave={step.wave} release={data.releases[0]!.no} />}
        {data.points.length > 0 && (
          <Grid
            templateColumns={{ base: "minmax(0,1fr)", lg: "minmax(0,1fr) minmax(0,1fr)" }}
            gap="26px"
            mt="14px"
            pt="12px"
            borderTopWidth="1px"
            borderColor="ink"
          >
            <Before r={data} look={(query) => void navigate(`/check${carried}${carried ? "&" : "?"}${query}`)} />
            <Reaches r={data} />
          </Grid>
        )}
      </Box>
      <Releases r={data} />
      {shown && <PointDialog p={shown} releases={data.releases} close={() => change({ point: null })} />}
      {adding && <AddPoint close={() => setAdding(false)} />}
      {wave && <WaveDialog wave={wave} close={() => setWave(undefined)} />}
    </Grid>
  );
}

/** The sentence: how far the newest release has come, and what is wrong. */
function Lead({ r }: { r: RollOut }) {
  const { change } = useAddress();
  const newest = r.releases[0];
  const w = useWindow();
  const empty = api.useQuery("get", "/api/v1/summary", { params: { query: w } }).data?.rules === 0;
  const step = newest && nextStep(wavesOf(r));
  const bad = troubled(r.points);
  return (
    <Sentence>
      {!newest && "Nothing is in force: there is no release. "}
      {!newest &&
        (empty ? (
          <>
            The draft has no rules yet: <PageLink to="/policy">write or derive some</PageLink> first.
          </>
        ) : (
          "The draft has no effect until you release it."
        ))}
      {newest && r.points.length === 0 && `Release ${newest.no} is stored, but no point runs it.`}
      {newest && r.points.length > 0 && !step && `Release ${newest.no} is enforced at all ${r.points.length} points.`}
      {newest &&
        step?.mode === "observe" &&
        (step.wave.no === r.waves[0]?.no
          ? `Release ${newest.no} has not started in ${plain(step.wave)}.${stays(step.wave.of, newest.no)}`
          : `Release ${newest.no} is enforced up to wave ${before(r, step.wave.no)}. ${nameOf(step.wave)} has not started.`)}
      {newest && step?.mode === "enforce" && (
        <>
          Release {newest.no} is observed in {plain(step.wave)}
          {enforcedBeside(step.wave.of, newest.no).length > 0 && (
            <span data-stays>, where release {enforcedBeside(step.wave.of, newest.no).join(", ")} stays enforced</span>
          )}
          ; it would reject{" "}
          <b data-would={rejects(step.wave.of)}>
            {rejects(step.wave.of) ? plural(rejects(step.wave.of), "conversation") : "nothing"}
          </b>{" "}
          of the window.
        </>
      )}
      {bad.length > 0 && (
        <>
          {" "}
          <Link color="reject" data-troubled={bad.length} onClick={() => change({ point: bad[0]!.name })}>
            {bad.length === 1 ? `${bad[0]!.name}: ${bad[0]!.state}` : `${n(bad.length)} points need attention`}
          </Link>
          .
        </>
      )}
    </Sentence>
  );
}

const plain = (w: Wave) => (w.title ? nameOf(w) : `wave ${w.no}`);

/** The number of the wave before another one. */
const before = (r: RollOut, no: number) => r.waves.filter((w) => w.no < no).at(-1)?.no ?? 0;

/** What goes on deciding meanwhile. */
function stays(points: Point[], release: number): string {
  const former = enforcedBeside(points, release);
  return former.length > 0 ? ` Release ${former.join(", ")} stays enforced there.` : "";
}

const rejects = (points: Point[]) => points.reduce((sum, p) => sum + p.rejects, 0);

/** What the points counted in the last minute: first packets of conversations. */
function Lately({ r }: { r: RollOut }) {
  const l = r.lately;
  const running = r.points.some((p) => runs(p.held) !== "runs nothing" && p.state !== "silent");
  if (!running || l.seconds === 0) return null;
  const kept = l.reject - r.dropped;
  return (
    <Flex gap="18px" mt="8px" wrap="wrap" align="baseline" data-dropped={r.dropped} data-kept={kept}>
      <Text color="soft" fontSize="12px">
        {l.seconds < 55 ? `In the last ${Math.round(l.seconds)} s` : "In the last minute"} points saw attempts
      </Text>
      <Text>
        <Mark kind="reject" size={10} /> <b>{n(r.dropped)}</b> dropped
      </Text>
      <Text>
        <b>{n(kept)}</b> rejected but carried: their points only observe
      </Text>
      <Text>
        <Mark kind="uncovered" size={10} /> <b>{n(l.uncovered)}</b> uncovered
      </Text>
      <Text>
        <Mark kind="permit" size={10} /> <b>{n(l.permit)}</b> permitted
      </Text>
    </Flex>
  );
}
