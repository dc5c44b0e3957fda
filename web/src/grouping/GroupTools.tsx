// Renaming and removing a group, with what uses it; who joined and left over
// the window.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWhy, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, Link, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { atMinute, n, plural } from "../marks/words";

type Regroup = Schemas["RegroupOut"];

export function GroupTools({
  name,
  revision,
  onRenamed,
}: {
  name: string;
  revision: number;
  onRenamed: (to: string) => void;
}) {
  const [doing, setDoing] = useState<"rename" | "remove">();
  return (
    <Flex gap="6px">
      <Btn onClick={() => setDoing("rename")}>Rename…</Btn>
      <Btn onClick={() => setDoing("remove")}>Remove…</Btn>
      <Rename
        name={name}
        revision={revision}
        open={doing === "rename"}
        onClose={() => setDoing(undefined)}
        onRenamed={onRenamed}
      />
      <Remove
        name={name}
        revision={revision}
        open={doing === "remove"}
        onClose={() => setDoing(undefined)}
        onGone={() => onRenamed("")}
      />
    </Flex>
  );
}

function Rename({
  name,
  revision,
  open,
  onClose,
  onRenamed,
}: {
  name: string;
  revision: number;
  open: boolean;
  onClose: () => void;
  onRenamed: (to: string) => void;
}) {
  const [to, setTo] = useState(name);
  const run = api.useMutation("post", "/api/v1/groups/rename");
  const go = async () => {
    try {
      const out = await run.mutateAsync({ body: { revision, name, to: to.trim() } });
      say(`${out.words}; ${plural(out.changed.length, "statement")} that named it changed with it`);
      await caughtUp();
      onClose();
      onRenamed(to.trim());
    } catch {
      // shown below
    }
  };
  return (
    <Modal
      title={`Rename ${name}`}
      open={open}
      onClose={onClose}
      size="sm"
      footer={
        <>
          <Btn primary disabled={!to.trim() || to.trim() === name} loading={run.isPending} onClick={() => void go()}>
            Rename
          </Btn>
          <Btn onClick={onClose}>Cancel</Btn>
        </>
      }
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void go();
        }}
      >
        <Entry aria-label="new name" value={to} set={setTo} autoFocus />
      </form>
      <Text color="soft" mt="4px">
        Everything that names the group changes with it. No verdict changes.
      </Text>
      {run.error && <ProblemNote>{problem(run.error)}</ProblemNote>}
    </Modal>
  );
}

function Remove({
  name,
  revision,
  open,
  onClose,
  onGone,
}: {
  name: string;
  revision: number;
  open: boolean;
  onClose: () => void;
  onGone: () => void;
}) {
  const w = useWindow();
  const run = api.useMutation("post", "/api/v1/groups/remove");
  const look = api.useQuery(
    "post",
    "/api/v1/groups/remove",
    { params: { query: { ...w, dryRun: true } }, body: { revision, name } },
    { enabled: open, retry: false, staleTime: 0 },
  );
  const go = async () => {
    try {
      const out = await run.mutateAsync({ params: { query: w }, body: { revision, name } });
      say(out.words);
      await caughtUp();
      onClose();
      onGone();
    } catch {
      // shown below
    }
  };
  const wrong = look.error ?? run.error;
  return (
    <Modal
      title={`Remove ${name}`}
      open={open}
      onClose={onClose}
      size="lg"
      footer={
        <>
          <Btn primary disabled={!look.data} loading={run.isPending} onClick={() => void go()}>
            {look.data?.removed.length ? `Remove it and ${plural(look.data.removed.length, "statement")}` : "Remove it"}
          </Btn>
          <Btn onClick={onClose}>Cancel</Btn>
        </>
      }
    >
      {look.data && <Uses out={look.data} />}
      {wrong && <ProblemNote>{problem(wrong)}</ProblemNote>}
    </Modal>
  );
}

function Uses({ out }: { out: Regroup }) {
  const list = (title: string, lines: string[]) =>
    lines.length > 0 && (
      <Box mb="8px">
        <Text color="soft">{title}</Text>
        {lines.map((l) => (
          <Text key={l} fontFamily="mono" fontSize="12px">
            {l}
          </Text>
        ))}
      </Box>
    );
  return (
    <Box data-regroup={out.removed.length}>
      {out.changed.length + out.removed.length === 0 && <Text>Nothing uses it.</Text>}
      {list("The group is removed from", out.changed)}
      {list("These would be empty and are removed too", out.removed)}
      {out.consequences && <ConsequencesList c={out.consequences} />}
    </Box>
  );
}

/** Who joined and left, when and why. */
export function GroupHistory({ name }: { name: string }) {
  const w = useWindow();
  const { show } = useWhy();
  const { data, error } = api.useQuery("get", "/api/v1/groups/history", { params: { query: { ...w, name } } });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data) return <Text color="soft">…</Text>;
  return (
    <Box mt="8px" data-history={data.total}>
      {data.revisions.map((r) => (
        <Text key={r.no} py="2px">
          {atMinute(r.at)}: the definition changed in revision {r.no}, by {r.author}:{" "}
          <chakra.span color="soft">{r.words}</chakra.span>
        </Text>
      ))}
      {data.changes.length === 0 && <Text color="soft">Nobody joined or left in the window.</Text>}
      {data.changes.map((c) => (
        <Flex key={c.at + c.workload} gap="8px" py="2px" borderBottomWidth="1px" borderColor="line2" align="baseline">
          <Text color="soft" w="130px" flexShrink={0}>
            {atMinute(c.at)}
          </Text>
          <Mark kind={c.after === "yes" ? "in" : c.after === "no" ? "out" : "undecided"} />
          <Link onClick={() => show({ kind: "workload", id: c.workload })} fontWeight="500">
            {c.name}
          </Link>
          <Text>
            {c.after === "yes"
              ? "joined"
              : c.before === "yes"
                ? c.after === "no"
                  ? "left"
                  : "became undecided"
                : c.after === "undecided"
                  ? "became undecided"
                  : "is no longer undecided: out"}
          </Text>
          <Text color="soft" truncate>
            {c.why}
          </Text>
        </Flex>
      ))}
      {data.total > data.changes.length && (
        <Text color="soft">and {n(data.total - data.changes.length)} earlier ones</Text>
      )}
    </Box>
  );
}
