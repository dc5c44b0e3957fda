// What is in force and what the draft is: never to be confused.
import { Flex, Text } from "@chakra-ui/react";
import { lazy, Suspense, useCallback } from "react";
import { useNavigate } from "react-router";
import { api, problem, caughtUp } from "../api/client";
import { Link } from "../marks/Controls";
import { atMinute, plural } from "../marks/words";
import type { RollOut } from "../releasing/waves";
import { useAddress, useCarried, useWindow } from "./address";
import { PageLink } from "./PageLink";
import { say } from "./toaster";

const History = lazy(async () => ({ default: (await import("../history/History")).History }));

const ReleaseDialog = lazy(async () => ({
  default: (await import("../releasing/ReleaseDialog")).ReleaseDialog,
}));

/** The newest release, where it is on trial. */
function Observed({ r }: { r: RollOut | undefined }) {
  const x = r?.releases[0];
  if (!x?.observed) return null;
  return (
    <span data-observed={x.no}>
      {" "}
      · release {x.no} observed at {x.observed}
    </span>
  );
}

/** What rules the network now, and at how many points. */
function InForce({ r }: { r: RollOut | undefined }) {
  if (!r?.inForce)
    return (
      <Text data-in-force={0} flexShrink={0}>
        <b>Nothing is in force yet</b>
        <Observed r={r} />
      </Text>
    );
  const at = r.releases.find((x) => x.no === r.inForce)?.enforced ?? 0;
  return (
    <Text data-in-force={r.inForce} flexShrink={0}>
      <b>Release {r.inForce}</b> in force at {at} of {plural(r.points.length, "point")}
      <Observed r={r} />
    </Text>
  );
}

/** Undo and redo for every edit of the draft, every tag set by hand, every import. */
export function useUndo() {
  const undo = api.useMutation("post", "/api/v1/policy/undo");
  const redo = api.useMutation("post", "/api/v1/policy/redo");
  const run = useCallback(async (m: typeof undo | typeof redo, word: string) => {
    try {
      const change = await m.mutateAsync({});
      say(`${word}: ${change.words}${change.note ? `; ${change.note}` : ""}`);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  }, []);
  return { undo: () => void run(undo, "Undone"), redo: () => void run(redo, "Redone") };
}

export function DraftStrip({ undo, live }: { undo: ReturnType<typeof useUndo>; live: boolean }) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const rollOut = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const newest = rollOut.data?.releases[0];
  const against = newest && data && !newest.same ? newest : undefined;
  const compared = api.useQuery(
    "get",
    "/api/v1/check",
    { params: { query: { ...w, against: against?.revision } } },
    { enabled: !!against },
  );
  const changed = against && compared.data?.difference?.changed;
  const carried = useCarried();
  const navigate = useNavigate();
  const { search, change } = useAddress();
  const asserts = api.useQuery("get", "/api/v1/assertions");
  const probes = api.useQuery("get", "/api/v1/probes", { params: { query: w } });
  const shut = asserts.data?.filter((a) => a.kind === "always" && a.result === "broken") ?? [];
  const broken = asserts.data?.filter((a) => a.kind !== "always" && a.result === "broken").length ?? 0;
  const off = probes.data?.filter((p) => !p.answer?.asExpected).length ?? 0;
  const to = (part: string) => void navigate(`/check${carried}${carried ? "&" : "?"}part=${part}`);
  const jobs = api.useQuery(
    "get",
    "/api/v1/jobs",
    {},
    { refetchInterval: (q) => (q.state.data?.some((j) => j.state === "running") ? 700 : false) },
  );
  const running = jobs.data?.filter((j) => j.state === "running") ?? [];
  return (
    <Flex
      as="section"
      aria-label="the draft"
      h="30px"
      align="center"
      gap="18px"
      px="20px"
      fontSize="12px"
      bg="tint"
      borderBottomWidth="1px"
      borderColor="line2"
      flexShrink={0}
      whiteSpace="nowrap"
      _print={{ display: "none" }}
    >
      <InForce r={rollOut.data} />
      <Link
        color="soft"
        title="The draft is what you edit; it has no effect until it is released. Press for its history"
        data-history
        onClick={() => change({ history: "all" })}
      >
        Draft: {data ? `revision ${data.revision}` : "…"}
      </Link>
      {against && (
        <Link
          data-differs={changed}
          color={changed ? "open" : "soft"}
          flexShrink={0}
          title={`what changes if the draft replaces release ${against.no}`}
          onClick={() => void navigate(`/check${carried}${carried ? "&" : "?"}against=${against.revision}`)}
        >
          {changed === undefined
            ? "differs"
            : `${plural(changed, "conversation")} change${changed === 1 ? "s" : ""} verdict`}
        </Link>
      )}
      {shut[0] && (
        <Link
          color="reject"
          fontWeight="600"
          minW="0"
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
          data-shut={shut.length}
          onClick={() => to("assertions")}
          title={shut.map((a) => `${a.sentence} ${a.note ?? ""}`).join("\n")}
        >
          {`The draft locks out: ${shut[0].note || shut[0].sentence.replace("assert ", "")}${shut.length > 1 ? ` and ${plural(shut.length - 1, "path")} more` : ""}`}
        </Link>
      )}
      {broken > 0 && (
        <Link color="reject" flexShrink={0} onClick={() => to("assertions")}>
          {plural(broken, "assertion")} broken
        </Link>
      )}
      {off > 0 && (
        <Link color="open" flexShrink={0} onClick={() => to("ask")} data-off={off}>
          {plural(off, "probe differs", "probes differ")}
        </Link>
      )}
      {running.map((j) => (
        <Text key={j.id} color="open" role="status">
          {j.title}: {Math.round(j.done * 100)} % {j.message && `· ${j.message}`}
        </Text>
      ))}
      {!live && (
        <Text color="reject" role="status">
          The server does not answer. This page may be out of date.
        </Text>
      )}
      <Flex ml="auto" gap="14px" color="soft" minW="0">
        {data?.undo && (
          <Link
            onClick={undo.undo}
            maxW="430px"
            overflow="hidden"
            textOverflow="ellipsis"
            whiteSpace="nowrap"
            title={`${data.undo.author}, ${atMinute(data.undo.at)} · Ctrl Z`}
          >
            ↶ Undo {data.undo.words}
          </Link>
        )}
        {data?.redo && (
          <Link
            onClick={undo.redo}
            maxW="260px"
            overflow="hidden"
            textOverflow="ellipsis"
            whiteSpace="nowrap"
            title="Ctrl Shift Z"
          >
            ↷ Redo {data.redo.words}
          </Link>
        )}
        {(newest || !!data?.rules) && <Link onClick={() => change({ release: "new" })}>Release…</Link>}
        <PageLink to="/policy?text=1">Policy text</PageLink>
      </Flex>
      {search.has("history") && data && (
        <Suspense>
          <History head={data.revision} />
        </Suspense>
      )}
      {search.get("release") === "new" && data && (
        <Suspense>
          <ReleaseDialog revision={data.revision} />
        </Suspense>
      )}
    </Flex>
  );
}
