// A new enforcement point: what it guards, in which wave; then its token, once.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { Btn, Entry, Field, ProblemNote, Select } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";

export function AddPoint({ close }: { close: () => void }) {
  const add = api.useMutation("post", "/api/v1/points");
  const [p, setP] = useState({
    name: "",
    guards: "",
    kind: "host",
    side: "both",
    wave: "1",
    putsBack: true,
    paired: false,
  });
  const [failed, setFailed] = useState("");
  const set = (more: Partial<typeof p>) => setP({ ...p, ...more });
  const go = async () => {
    setFailed("");
    try {
      await add.mutateAsync({
        body: {
          name: p.name.trim(),
          guards: p.guards,
          kind: p.kind as "host" | "gate" | "file",
          side: p.side as "both" | "server" | "client",
          wave: Number(p.wave) || 1,
          putsBack: p.putsBack,
          paired: p.paired,
        },
      });
    } catch (e) {
      setFailed(problem(e));
    }
    await caughtUp();
  };
  const made = add.data;
  return (
    <Modal
      title={made ? `${made.name} is created` : "Add an enforcement point"}
      open
      onClose={close}
      size="lg"
      footer={
        made ? (
          <Btn primary onClick={close}>
            Done
          </Btn>
        ) : (
          <>
            <Btn
              primary
              loading={add.isPending}
              disabled={!p.name.trim() || !p.guards.trim()}
              onClick={() => void go()}
            >
              Create
            </Btn>
            <Btn onClick={close}>Cancel</Btn>
          </>
        )
      }
    >
      {made ? (
        <Box>
          <Text>
            This token is shown now and never again.{" "}
            {p.kind === "file"
              ? "The device sends the token to fetch its plan, or only the members of a group:"
              : "Save it in a file on the machine, and start as root:"}
          </Text>
          <chakra.code display="block" fontFamily="mono" my="8px" data-token>
            {made.token}
          </chakra.code>
          <chakra.code display="block" fontFamily="mono" fontSize="12px" whiteSpace="pre-wrap">
            {p.kind === "file"
              ? fetching(window.location.origin)
              : `orchard point --server ${window.location.origin} --token-file token --state /var/lib/orchard-point`}
          </chakra.code>
        </Box>
      ) : (
        <Flex direction="column" gap="8px">
          <Field label="name">
            <Entry autoFocus aria-label="name of the point" value={p.name} set={(v) => set({ name: v })} />
          </Field>
          <Field label="guards">
            <Entry
              fontFamily="mono"
              aria-label="which workloads it guards"
              placeholder="env is trial and site is northquay"
              value={p.guards}
              set={(v) => set({ guards: v })}
            />
          </Field>
          <Preview guards={p.guards} />
          <Field label="is a">
            <Select aria-label="kind of point" value={p.kind} onChange={(e) => set({ kind: e.target.value })}>
              <option value="host">host: the machine guards itself</option>
              <option value="gate">gate: it stands in the path</option>
              <option value="file">file: a device in the path that fetches a file</option>
            </Select>
          </Field>
          <Field label="checks them as">
            <Select aria-label="side" value={p.side} onChange={(e) => set({ side: e.target.value })}>
              <option value="both">server and client</option>
              <option value="server">server</option>
              <option value="client">client</option>
            </Select>
          </Field>
          <Field label="wave">
            <Entry type="number" min={1} w="90px" aria-label="wave" value={p.wave} set={(v) => set({ wave: v })} />
          </Field>
          <label>
            <input type="checkbox" checked={p.putsBack} onChange={(e) => set({ putsBack: e.target.checked })} /> it
            automatically restores what is changed by hand
          </label>
          {p.kind === "gate" && (
            <label>
              <input type="checkbox" checked={p.paired} onChange={(e) => set({ paired: e.target.checked })} /> it is one
              of a pair: another gate guards the same workloads and may see part of the packets
            </label>
          )}
          {failed && <ProblemNote>{failed}</ProblemNote>}
        </Flex>
      )}
    </Modal>
  );
}

/** How many workloads an expression would guard. */
function Preview({ guards }: { guards: string }) {
  const { data, error } = api.useQuery(
    "get",
    "/api/v1/points/guarded",
    { params: { query: { guards } } },
    { enabled: !!guards.trim(), retry: false, placeholderData: (before: Schemas["Guarded"] | undefined) => before },
  );
  if (!guards.trim()) return null;
  if (error) return <Text color="reject">{problem(error)}</Text>;
  if (!data) return null;
  return (
    <Text color="soft" data-guarded={data.workloads}>
      guards {plural(data.workloads, "workload")}
      {data.some.length > 0 && `: ${data.some.join(", ")}${data.workloads > data.some.length ? ", …" : ""}`}
      {data.undecided > 0 && `; ${plural(data.undecided, "workload")} undecided, so not guarded`}
    </Text>
  );
}

/** How a device fetches: only what is another than it has. */
const fetching = (server: string) =>
  `curl -H "Authorization: Bearer TOKEN" -H 'If-None-Match: ETAG' \\
  "${server}/api/v1/point/file?format=acl"
curl … "${server}/api/v1/point/groups/GROUP"`;
