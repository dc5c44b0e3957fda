// Release…: a title, what changes, and where it starts.
import { Box, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, caughtUp, problem } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { Changes } from "./Releases";
import { enforcedBeside, modeOf, type Point, wavesOf } from "./waves";

export function ReleaseDialog({ revision }: { revision: number }) {
  const w = useWindow();
  const { change } = useAddress();
  const navigate = useNavigate();
  const carried = useCarried();
  const { data } = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const release = api.useMutation("post", "/api/v1/releases");
  const [title, setTitle] = useState("");
  const [failed, setFailed] = useState("");
  const newest = data?.releases[0];
  const same = newest?.same ?? false;
  const first = data && wavesOf(data)[0];
  const on = data?.points.filter((p) => newest && modeOf(p, newest.no) !== "off") ?? [];
  const instead = on.length > 0 && on.length < (data?.points.length ?? 0);
  const reached = data && wavesOf(data).filter((x) => x.no === first?.no || x.of.some((p) => on.includes(p)));
  const go = async () => {
    setFailed("");
    try {
      const made = await release.mutateAsync({ body: { revision, title: title.trim(), instead } });
      say(
        `Release ${made.no} is made${first ? `; ${instead ? "those waves observe" : `wave ${first.no} observes`} it` : ""}`,
      );
      void navigate(`/release${carried}`);
    } catch (e) {
      setFailed(problem(e));
    }
    await caughtUp();
  };
  return (
    <Modal
      title="Release the draft"
      open
      onClose={() => change({ release: null })}
      size="lg"
      footer={
        <>
          <Btn primary loading={release.isPending} disabled={!title.trim() || same || !data} onClick={() => void go()}>
            {instead
              ? `Release instead of release ${newest!.no}`
              : first
                ? `Release; wave ${first.no} observes`
                : "Release"}
          </Btn>
          <Btn onClick={() => change({ release: null })}>Cancel</Btn>
        </>
      }
    >
      <Entry
        autoFocus
        aria-label="title of the release"
        placeholder="What does it change? Boarding gates get their own store"
        value={title}
        maxLength={200}
        set={setTitle}
      />
      {same && <ProblemNote>The draft equals release {newest?.no}; there is nothing to release.</ProblemNote>}
      {newest && !same && <Statements newest={newest} />}
      {instead && !same && (
        <Text mt="10px" data-instead>
          Release {newest!.no} is still being rolled out. This one takes its place: wave{" "}
          {reached?.map((x) => x.no).join(", ")} {reached?.length === 1 ? "observes" : "observe"} it. What is enforced
          there stays enforced.
        </Text>
      )}
      {!newest && data && (
        <Text mt="10px">This is the first release. Until now nothing is in force and all traffic is carried.</Text>
      )}
      <Text mt="10px" color="soft" fontSize="12.5px" hidden={instead}>
        {first
          ? `${plural(first.of.length, "point")} of wave ${first.no} (${first.of.map((p) => p.name).join(", ")}) ` +
            `observe${first.of.length === 1 ? "s" : ""} it: it counts, and drops nothing. ${former(first.of)} ` +
            "The other waves start when you order them."
          : "There is no enforcement point yet. The release is stored, and has no effect until a point runs it."}
      </Text>
      <Largest />
      {failed && <ProblemNote>{failed}</ProblemNote>}
    </Modal>
  );
}

/** A plan of so many rules and elements takes a kernel seconds to load. */
const large = 100_000;

/** The largest plan that the draft would come to. */
function Largest() {
  const { data } = api.useQuery("get", "/api/v1/releases/preview");
  if (!data?.largest) return null;
  return (
    <Text mt="8px" color="soft" fontSize="12.5px" data-largest={data.elements}>
      The largest plan is that of {data.largest}: {plural(data.rules, "rule")} and {plural(data.elements, "element")} in
      its sets.{data.rules + data.elements > large && " Loading it takes seconds."}
    </Text>
  );
}

/** What goes on deciding where a new release is observed. */
function former(points: Point[]): string {
  const still = enforcedBeside(points, 0);
  if (still.length === 0) return "No release is enforced there, so all traffic is carried.";
  return `Release ${still.join(", ")} stays enforced there.`;
}

/** What the draft has and lacks beside the newest release. */
function Statements({ newest }: { newest: { no: number; revision: number } }) {
  const d = api.useQuery("get", "/api/v1/policy/revisions/{no}/difference", {
    params: { path: { no: newest.revision } },
  });
  const lines = (what: "added" | "removed") => d.data?.statements.filter((s) => s.change === what) ?? [];
  const parts = [
    ["It adds", lines("added")],
    ["It takes away", lines("removed")],
  ] as const;
  return (
    <Box mt="10px" data-statements={d.data?.statements.length}>
      <Text fontWeight="600">Against release {newest.no}</Text>
      <Changes revision={newest.revision} />
      {parts.map(
        ([head, all]) =>
          all.length > 0 && (
            <Box key={head} mt="6px">
              <Text color="soft">{head}</Text>
              {all.slice(0, 12).map((s) => (
                <Text key={s.text} fontFamily="mono" fontSize="12px">
                  {s.text}
                </Text>
              ))}
              {all.length > 12 && <Text color="soft">and {all.length - 12} more</Text>}
            </Box>
          ),
      )}
    </Box>
  );
}
