// Who is told of what: sentences that say when, of what and to whom; where messages go.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Link } from "../marks/Controls";
import { plural } from "../marks/words";
import { DestinationDialog } from "./DestinationDialog";
import { NoticeDialog } from "./NoticeDialog";
import { type Destination, type Notice, useNotices } from "./notices";
import { about, ago, type Matter, plain } from "./watch";

export function TellMe({ matters }: { matters: Matter[] }) {
  const { data } = useNotices();
  const [notice, setNotice] = useState<Notice | "new">();
  const [to, setTo] = useState<Destination | "new">();
  if (!data) return null;
  return (
    <Flex mt="18px" gap="20px" align="flex-start" data-tell>
      <Text as="h2" fontFamily="heading" fontSize="16px" w="80px" flexShrink={0}>
        Notify me
      </Text>
      <Box flex="1" minW="0">
        {data.notices.map((x) => (
          <NoticeLine key={x.id} n={x} matters={matters} edit={() => setNotice(x)} />
        ))}
        <Box py="5px">
          <Link onClick={() => setNotice("new")}>when … +</Link>
        </Box>
        <Flex gap="14px" mt="6px" wrap="wrap" align="baseline" fontSize="12.5px">
          <Text color="soft">{data.destinations.length ? "Messages go to" : "No destination yet."}</Text>
          {data.destinations.map((d) => (
            <DestinationWord key={d.name} d={d} edit={() => setTo(d)} />
          ))}
          <Link onClick={() => setTo("new")}>{data.destinations.length ? "another +" : "Add a destination…"}</Link>
        </Flex>
      </Box>
      {notice && (
        <NoticeDialog
          first={notice === "new" ? undefined : notice}
          matters={matters}
          close={() => setNotice(undefined)}
        />
      )}
      {to && <DestinationDialog first={to === "new" ? undefined : to} close={() => setTo(undefined)} />}
    </Flex>
  );
}

function NoticeLine({ n, matters, edit }: { n: Notice; matters: Matter[]; edit: () => void }) {
  const change = api.useMutation("put", "/api/v1/watch/notices/{id}");
  const drop = api.useMutation("delete", "/api/v1/watch/notices/{id}");
  const put = async (paused: boolean) => {
    const { kinds, who, what, matter, filter, pace, to, ends } = n;
    const quiet =
      n.quietFrom !== undefined && n.quietUntil !== undefined ? { from: n.quietFrom, until: n.quietUntil } : undefined;
    try {
      await change.mutateAsync({
        params: { path: { id: n.id } },
        body: { kinds, who, what, matter, filter, pace, to, ends, quiet, paused },
      });
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp(["watch"]);
  };
  const remove = async () => {
    try {
      await drop.mutateAsync({ params: { path: { id: n.id } } });
      say("The notice is deleted");
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp(["watch"]);
  };
  const one = matters.find((m) => m.id === n.matter);
  const words = about(n, one ? plain(one) : "");
  return (
    <Flex gap="10px" py="5px" borderBottomWidth="1px" borderColor="line2" align="baseline" data-notice={n.id}>
      <Text flex="1" minW="0" opacity={n.paused ? 0.6 : 1}>
        {n.pace}, when <b>{words}</b>{" "}
        <chakra.span color="soft">
          → {n.to.join(", ") || "nobody"}
          {n.fired ? ` · last sent ${ago(n.fired)}` : " · not yet"}
          {n.paused && " · paused"}
        </chakra.span>
        {n.problem && (
          <chakra.span color="reject" display="block">
            It no longer works: {n.problem}
          </chakra.span>
        )}
      </Text>
      <Link onClick={edit}>change</Link>
      <Link onClick={() => void put(!n.paused)}>{n.paused ? "resume" : "pause"}</Link>
      <Link onClick={() => void remove()} aria-label={`delete: ${words}`}>
        delete
      </Link>
    </Flex>
  );
}

function DestinationWord({ d, edit }: { d: Destination; edit: () => void }) {
  const trial = api.useMutation("post", "/api/v1/watch/destinations/{name}/trial");
  const run = async () => {
    try {
      await trial.mutateAsync({ params: { path: { name: d.name } } });
      say(`A test message is on its way to ${d.name}`);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp(["watch"]);
  };
  return (
    <Text data-destination={d.name} data-failing={!!d.failing} data-sent={!!d.sent}>
      <Link onClick={edit} fontWeight="600">
        {d.name}
      </Link>{" "}
      <chakra.span color={d.failing ? "reject" : "soft"} title={d.problem}>
        {d.failing
          ? `failing since ${ago(d.failing)}: ${d.problem}`
          : d.sent
            ? `last accepted a message ${ago(d.sent)}`
            : "not used yet"}
        {d.waiting > 0 && `, ${plural(d.waiting, "message")} waiting`}
        {d.refused > 0 && `, ${plural(d.refused, "message")} refused: ${d.refusal}`}
      </chakra.span>{" "}
      <Link onClick={() => void run()}>send a test</Link>
    </Text>
  );
}

/** From a matter: be told when it happens again. */
export function TellOfThis({ m, matters }: { m: Matter; matters: Matter[] }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Btn onClick={() => setOpen(true)}>Notify me when this happens again…</Btn>
      {open && <NoticeDialog of={m} matters={matters} close={() => setOpen(false)} />}
    </>
  );
}
