// A new enforcement point: what it guards, in which wave; then its token, once.
import { Box, chakra, Flex, Input, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { Btn, Field, inputStyle, ProblemNote, Select } from "../marks/Controls";
import { Modal } from "../marks/Modal";

export function AddPoint({ close }: { close: () => void }) {
  const add = api.useMutation("post", "/api/v1/points");
  const [p, setP] = useState({ name: "", guards: "", kind: "host", side: "both", wave: "1", putsBack: true });
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
      title={made ? `${made.name} is made` : "Add an enforcement point"}
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
              Make it
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
              ? "The device names itself by it when it fetches what to hold, or only the members of a group:"
              : "Keep it in a file on the machine, and start there as root:"}
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
            <Input
              {...inputStyle}
              autoFocus
              aria-label="name of the point"
              value={p.name}
              onChange={(e) => set({ name: e.target.value })}
            />
          </Field>
          <Field label="guards">
            <Input
              {...inputStyle}
              fontFamily="mono"
              aria-label="which workloads it guards"
              placeholder="env is trial and site is northquay"
              value={p.guards}
              onChange={(e) => set({ guards: e.target.value })}
            />
          </Field>
          <Field label="is a">
            <Select aria-label="kind of point" value={p.kind} onChange={(e) => set({ kind: e.target.value })}>
              <option value="host">host: the machine guards itself</option>
              <option value="gate">gate: it stands in the path</option>
              <option value="file">file: a device in the path that fetches a file</option>
            </Select>
          </Field>
          <Field label="polices them as">
            <Select aria-label="side" value={p.side} onChange={(e) => set({ side: e.target.value })}>
              <option value="both">server and client</option>
              <option value="server">server</option>
              <option value="client">client</option>
            </Select>
          </Field>
          <Field label="wave">
            <Input
              {...inputStyle}
              type="number"
              min={1}
              w="90px"
              aria-label="wave"
              value={p.wave}
              onChange={(e) => set({ wave: e.target.value })}
            />
          </Field>
          <label>
            <input type="checkbox" checked={p.putsBack} onChange={(e) => set({ putsBack: e.target.checked })} /> it puts
            back by itself what is changed by hand
          </label>
          {failed && <ProblemNote>{failed}</ProblemNote>}
        </Flex>
      )}
    </Modal>
  );
}

/** How a device fetches: only what is another than it has. */
const fetching = (server: string) =>
  `curl -H "Authorization: Bearer TOKEN" -H 'If-None-Match: ETAG' \\
  "${server}/api/v1/point/file?format=acl"
curl … "${server}/api/v1/point/groups/GROUP"`;
