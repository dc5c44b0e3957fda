// Release: what is in force where, how far the newest release has come, and the next step.
import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, caughtUp, problem } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { n, plural } from "../marks/words";
import { AddPoint } from "./AddPoint";
import { PointDialog } from "./PointDialog";
import { Releases } from "./Releases";
import { WaveColumn } from "./WaveColumn";
import { nextStep, type Point, type RollOut, troubled, wavesOf } from "./waves";

export function ReleaseView() {
  const w = useWindow();
  const { search, change } = useAddress();
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/rollout",
    { params: { query: w } },
    { refetchInterval: 5000 }, // a point that falls silent tells nobody
  );
  const [adding, setAdding] = useState(false);
  if (error && !data) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text p="20px" color="soft">
        asking the points…
      </Text>
    );
  const shown = data.points.find((p) => p.name === search.get("point"));
  return (
    <Grid templateColumns={{ base: "minmax(0,1fr)", md: "minmax(0,1fr) 330px" }} h="100%" minH="0">
      <Box overflowY="auto" px="20px" py="12px" minW="0">
        <Lead r={data} />
        <Steps r={data} add={() => setAdding(true)} />
        {data.points.length === 0 ? (
          <Empty title="No enforcement point yet">
            An enforcement point applies releases to the traffic of the workloads that it guards: a Linux machine that
            guards itself, or one in the path. <Link onClick={() => setAdding(true)}>Make one</Link>, and start it with
            the token that is shown.
          </Empty>
        ) : (
          <Flex gap="14px" mt="12px" wrap="wrap" align="flex-start">
            {wavesOf(data.points).map((wave) => (
              <WaveColumn
                key={wave.no}
                wave={wave}
                release={data.releases[0]?.no}
                open={(p) => change({ point: p.name })}
              />
            ))}
          </Flex>
        )}
        {data.points.length > 0 && (
          <Grid
            templateColumns={{ base: "minmax(0,1fr)", lg: "minmax(0,1fr) minmax(0,1fr)" }}
            gap="26px"
            mt="14px"
            pt="12px"
            borderTopWidth="1px"
            borderColor="ink"
          >
            <Before r={data} />
            <Reaches r={data} />
          </Grid>
        )}
      </Box>
      <Releases r={data} />
      {shown && <PointDialog p={shown} releases={data.releases} close={() => change({ point: null })} />}
      {adding && <AddPoint close={() => setAdding(false)} />}
    </Grid>
  );
}

/** The sentence: how far the newest release has come, and what is wrong. */
function Lead({ r }: { r: RollOut }) {
  const { change } = useAddress();
  const newest = r.releases[0];
  const step = newest && nextStep(wavesOf(r.points), newest.no);
  const bad = troubled(r.points);
  return (
    <Sentence>
      {!newest && "Nothing is in force: the draft rules nothing until it is released."}
      {newest && r.points.length === 0 && `Release ${newest.no} is made, and there is no point to hold it.`}
      {newest && r.points.length > 0 && !step && `Release ${newest.no} is enforced at all ${r.points.length} points.`}
      {newest &&
        step?.mode === "observe" &&
        `Release ${newest.no} is enforced before wave ${step.wave.no}, which has not got it yet.`.replace(
          "is enforced before wave 1, which",
          "is made, and wave 1",
        )}
      {newest && step?.mode === "enforce" && (
        <>
          Release {newest.no} is observed in wave {step.wave.no}, where it would reject{" "}
          <b data-would={rejects(step.wave.points)}>
            {rejects(step.wave.points) ? plural(rejects(step.wave.points), "conversation") : "nothing"}
          </b>{" "}
          that {rejects(step.wave.points) > 1 ? "run" : "runs"} today.
        </>
      )}
      {bad.length > 0 && (
        <>
          {" "}
          <Link color="reject" data-troubled={bad.length} onClick={() => change({ point: bad[0]!.name })}>
            {bad.length === 1 ? `${bad[0]!.name}: ${bad[0]!.state}` : `${n(bad.length)} points need a look`}
          </Link>
          .
        </>
      )}
    </Sentence>
  );
}

const rejects = (points: Point[]) => points.reduce((sum, p) => sum + p.rejects, 0);

/** What can be done now: the next step, and the way back. */
function Steps({ r, add }: { r: RollOut; add: () => void }) {
  const aim = api.useMutation("post", "/api/v1/rollout/aim");
  const { change } = useAddress();
  const newest = r.releases[0];
  const step = newest && nextStep(wavesOf(r.points), newest.no);
  const tell = async (points: Point[], release: number, mode: "off" | "observe" | "enforce", done: string) => {
    try {
      await aim.mutateAsync({ body: { points: points.map((p) => p.name), release, mode } });
      say(done);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
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
  return (
    <Flex gap="10px" mt="10px" align="center" wrap="wrap">
      {step && (
        <Btn
          primary
          data-next={`${step.wave.no} ${step.mode}`}
          loading={aim.isPending}
          onClick={() =>
            void tell(
              step.wave.points,
              newest.no,
              step.mode,
              step.mode === "observe" ? `Wave ${step.wave.no} observes` : `Wave ${step.wave.no} enforces`,
            )
          }
        >
          {step.mode === "observe" ? "Observe in" : "Enforce in"} wave {step.wave.no}
        </Btn>
      )}
      {on.length > 0 && (
        <Btn onClick={() => void back()}>{former ? `Back to release ${former.no}` : "Hold nothing again"}</Btn>
      )}
      <Btn primary={!newest} onClick={() => change({ release: "new" })}>
        Release…
      </Btn>
      <Btn onClick={add}>Add a point…</Btn>
      <Text ml="auto" color="soft" fontSize="12px">
        {plural(r.points.length, "enforcement point")}
        {troubled(r.points).length > 0 && ` · ${n(troubled(r.points).length)} not as it should be`}
      </Text>
    </Flex>
  );
}

function Before({ r }: { r: RollOut }) {
  const navigate = useNavigate();
  const carried = useCarried();
  const newest = r.releases[0];
  const to = (query: string) => void navigate(`/check${carried}${carried ? "&" : "?"}${query}`);
  const b = r.before;
  const rows: { good: boolean; words: string; look?: string }[] = [
    {
      good: b.holding === b.asserts,
      words: `${n(b.holding)} of ${plural(b.asserts, "assertion")} hold`,
      look: "part=assertions",
    },
    {
      good: b.expected === b.probes,
      words: b.probes ? `${n(b.expected)} of ${plural(b.probes, "probe")} as expected` : "no probe was kept",
      look: "part=ask",
    },
  ];
  if (newest)
    rows.push(
      {
        good: b.rejects === 0,
        words: `${plural(b.rejects, "conversation")} that run today would be rejected somewhere`,
        look: `against=${newest.revision}&was=reject`,
      },
      {
        good: b.uncovered === 0,
        words: `${plural(b.uncovered, "conversation")} left uncovered: they are carried, and counted`,
        look: `against=${newest.revision}&was=uncovered`,
      },
    );
  return (
    <Box>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        Before it may enforce
      </Text>
      {rows.map((x) => (
        <Flex key={x.words} gap="8px" py="4px" borderBottomWidth="1px" borderColor="line2" align="center">
          <Mark kind={x.good ? "permit" : "reject"} size={10} />
          <Text flex="1">{x.words}</Text>
          {!x.good && x.look && (
            <Link color="soft" onClick={() => to(x.look!)}>
              look
            </Link>
          )}
        </Flex>
      ))}
    </Box>
  );
}

function Reaches({ r }: { r: RollOut }) {
  const c = r.coverage;
  const rows: [number, string][] = [
    [c.both, "workloads guarded on both sides"],
    [c.server, "only where they are called"],
    [c.client, "only where they call"],
    [c.none, "by no point"],
  ];
  return (
    <Box>
      <Text as="h2" fontFamily="heading" fontSize="16px" mb="4px">
        What it reaches
      </Text>
      {rows.map(([count, words]) => (
        <Flex key={words} gap="10px" py="4px" borderBottomWidth="1px" borderColor="line2">
          <Text w="48px" textAlign="right" fontWeight="600" fontVariantNumeric="tabular-nums">
            {n(count)}
          </Text>
          <Text>{words}</Text>
        </Flex>
      ))}
    </Box>
  );
}
