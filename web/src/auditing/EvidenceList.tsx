// Evidence that was made, and that is made by itself.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { PageLink } from "../frame/PageLink";
import { useAddress } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { fullTime, plural } from "../marks/words";
import { type Kept, period, promised } from "./evidence";
import { MakeDialog } from "./MakeDialog";

export function EvidenceList() {
  const { search, change } = useAddress();
  const making = search.get("make");
  const { data: list, error } = api.useQuery("get", "/api/v1/evidence");
  const [chosen, setChosen] = useState<number[]>([]);
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!list)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  const two = [...chosen].sort((a, b) => a - b);
  return (
    <Box h="100%" overflowY="auto" px="20px" py="12px">
      <Flex gap="16px" align="flex-start">
        <Box flex="1">
          <Sentence>
            {list.length
              ? `${plural(list.length, "piece")} of evidence for auditors`
              : "Evidence for auditors: none yet"}
          </Sentence>
          <Text color="soft" fontSize="12.5px" mt="2px">
            Each stays as it was made, with its signature. <PageLink to="/watch">Back to Watch</PageLink>
          </Text>
        </Box>
        <Btn primary onClick={() => change({ make: "yes" })}>
          Evidence for an auditor…
        </Btn>
      </Flex>
      {list.length === 0 ? (
        <Empty title="Show that a promise held">
          Choose an assertion or a group, and a period. You get a page to print, a PDF and signed JSON. They show
          whether it held on each day, who was allowed to reach it, who did, who was exempt, and who changed what.
        </Empty>
      ) : (
        <>
          <Flex
            mt="14px"
            pb="4px"
            borderBottomWidth="1px"
            borderColor="ink"
            align="baseline"
            gap="14px"
            justify="space-between"
          >
            <Text as="h2" fontFamily="heading" fontSize="16px">
              Made
            </Text>
            {two.length === 2 ? (
              <PageLink to={`/evidence/comparison?before=${two[0]}&after=${two[1]}`}>Compare the two</PageLink>
            ) : (
              <Text color="soft">Choose two to compare them</Text>
            )}
          </Flex>
          {list.map((e) => (
            <Row
              key={e.id}
              e={e}
              chosen={chosen.includes(e.id)}
              choose={() =>
                setChosen((before) =>
                  before.includes(e.id) ? before.filter((x) => x !== e.id) : [...before.slice(-1), e.id],
                )
              }
            />
          ))}
        </>
      )}
      <Schedules />
      {making && (
        <MakeDialog
          first={making === "yes" ? undefined : making}
          close={() => change({ make: null }, { replace: true })}
        />
      )}
    </Box>
  );
}

function Row({ e, chosen, choose }: { e: Kept; chosen: boolean; choose: () => void }) {
  const drop = api.useMutation("delete", "/api/v1/evidence/{id}");
  const [sure, setSure] = useState(false);
  const forget = () =>
    drop.mutateAsync({ params: { path: { id: e.id } } }).then(
      () => caughtUp(["other"]),
      (x) => say(problem(x), "error"),
    );
  return (
    <Flex gap="12px" py="7px" borderBottomWidth="1px" borderColor="line2" align="flex-start" data-row data-made={e.id}>
      <chakra.input
        type="checkbox"
        mt="3px"
        aria-label={`compare evidence ${e.id}`}
        checked={chosen}
        onChange={choose}
      />
      <Box flex="1" minW="0">
        <PageLink to={`/evidence/${e.id}`}>
          <b>{promised(e.promise)}</b>, {period(e.from, e.to)}
        </PageLink>
        <Text color="soft">{e.sentence}</Text>
      </Box>
      <Text color="soft" whiteSpace="nowrap">
        {e.schedule ? "scheduled" : e.author}, {fullTime(e.made)}
      </Text>
      {sure ? (
        <Flex gap="8px">
          <Link onClick={() => void forget()} color="reject">
            Delete it
          </Link>
          <Link onClick={() => setSure(false)}>Keep it</Link>
        </Flex>
      ) : (
        <Link onClick={() => setSure(true)} aria-label={`delete evidence ${e.id}`}>
          Delete…
        </Link>
      )}
    </Flex>
  );
}

function Schedules() {
  const { data } = api.useQuery("get", "/api/v1/evidence-schedules");
  const drop = api.useMutation("delete", "/api/v1/evidence-schedules/{id}");
  if (!data?.length) return null;
  const end = (id: number) =>
    drop.mutateAsync({ params: { path: { id } } }).then(
      () => caughtUp(["other"]),
      (e) => say(problem(e), "error"),
    );
  return (
    <>
      <Text as="h2" fontFamily="heading" fontSize="16px" mt="20px" pb="4px" borderBottomWidth="1px" borderColor="ink">
        Scheduled
      </Text>
      {data.map((s) => (
        <Flex key={s.id} gap="12px" py="7px" borderBottomWidth="1px" borderColor="line2" data-schedule={s.id}>
          <Box flex="1" minW="0">
            <b>{promised(s.promise)}</b>, when a {s.every} is over
            {s.problem && <ProblemNote>The last one failed: {s.problem}</ProblemNote>}
          </Box>
          <Text color="soft">{s.author}</Text>
          <Link onClick={() => void end(s.id)}>Stop</Link>
        </Flex>
      ))}
    </>
  );
}
