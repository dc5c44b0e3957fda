// Saying that a port is a service at a place: conversations that stand the wrong
// way round are turned, and it is remembered for those to come.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";

type Conversation = Schemas["ConversationOut"];
type Said = Schemas["ServicePortOut"];

export function WrongWay({ c, close }: { c: Conversation; close: () => void }) {
  const { data } = api.useQuery("get", "/api/v1/records", {
    params: {
      query: {
        client: c.client.addr,
        server: c.server.addr,
        service: c.service,
        from: c.first,
        to: c.last,
        limit: 1000,
      },
    },
  });
  const workload = api.useQuery(
    "get",
    "/api/v1/workloads/{id}",
    { params: { path: { id: c.client.workload ?? "" } } },
    { enabled: !!c.client.workload },
  );
  const add = api.useMutation("post", "/api/v1/service-ports");
  const [place, setPlace] = useState<Pick<Said, "kind" | "place">>();
  const [wrong, setWrong] = useState<string>();
  const proto = c.service.split("/")[0]!;
  const counts = new Map<number, number>();
  for (const r of data?.records ?? []) counts.set(r.clientPort, (counts.get(r.clientPort) ?? 0) + 1);
  const [port] = [...counts].sort((a, b) => b[1] - a[1])[0] ?? [0];
  const places: { kind: Said["kind"]; place: string; words: string }[] = [
    ...(workload.data?.groups ?? [])
      .filter((g) => g.truth === "yes")
      .map((g) => ({ kind: "group" as const, place: g.group, words: `of every member of ${g.group}` })),
    ...(c.client.workload
      ? [{ kind: "workload" as const, place: c.client.workload, words: `of ${c.client.name} only` }]
      : [{ kind: "address" as const, place: c.client.addr, words: `of ${c.client.addr} only` }]),
    { kind: "everywhere", place: "", words: "wherever it is used" },
  ];
  const chosen = place ?? places[0]!;
  const send = async () => {
    setWrong(undefined);
    try {
      await add.mutateAsync({ body: { service: `${proto}/${port}`, kind: chosen.kind, place: chosen.place } });
      say(
        `${proto}/${port} is now a service ${places.find((p) => p.kind === chosen.kind && p.place === chosen.place)?.words ?? ""}. Stored conversations are being swapped. The exporters page lists it.`,
      );
      await caughtUp();
      close();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  return (
    <Modal
      title="Which end is the server?"
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn primary disabled={!port || add.isPending} onClick={() => void send()}>
            {c.client.name} serves {proto}/{port}
          </Btn>
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      <Text mb="8px">
        It stands as <b>{c.client.name}</b> → <b>{c.server.name}</b> on {c.service}. If it is {c.client.name} that
        serves, choose for which machines its port is a service. Stored and future conversations are swapped.
      </Text>
      {data && data.total === 0 ? (
        <ProblemNote>
          The single records of this conversation are deleted, so the port of {c.client.name} is unknown and it cannot
          be swapped.
        </ProblemNote>
      ) : (
        <>
          <Text mb="4px">
            {proto}/{port} is a service
          </Text>
          {places.map((p) => (
            <chakra.label key={p.kind + p.place} display="flex" gap="6px" alignItems="center" py="1px">
              <input
                type="radio"
                name="place"
                checked={chosen.kind === p.kind && chosen.place === p.place}
                onChange={() => setPlace(p)}
              />
              {p.words}
            </chakra.label>
          ))}
          {counts.size > 3 && (
            <Flex color="open" mt="8px">
              {c.client.name} used {counts.size} ports in these records; a server uses one. It may already be correct.
            </Flex>
          )}
        </>
      )}
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
