// Two releases beside each other: what each conversation of the window is in both, and
// the statements that one has and the other has not.
import { Box, Text } from "@chakra-ui/react";
import { Fragment } from "react";
import { api, problem } from "../api/client";
import { useWindow } from "../frame/address";
import { Btn, ProblemNote } from "../marks/Controls";
import { Mark, type Verdict } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { n, plural } from "../marks/words";

const verdicts: Verdict[] = ["permit", "reject", "uncovered"];

export function CompareReleases({ older, newer, close }: { older: number; newer: number; close: () => void }) {
  const w = useWindow();
  const { data, error } = api.useQuery("get", "/api/v1/releases/{no}/difference", {
    params: { path: { no: newer }, query: { ...w, against: older } },
  });
  return (
    <Modal
      title={`From release ${older} to release ${newer}`}
      open
      onClose={close}
      size="xl"
      footer={<Btn onClick={close}>Close</Btn>}
    >
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {data && (
        <>
          <Text data-changed={data.changed}>
            {data.changed === 0
              ? "No conversation of the window changes its verdict."
              : `${plural(data.changed, "conversation")} of the window change${data.changed === 1 ? "s" : ""} verdict.`}
          </Text>
          <Box
            display="grid"
            gridTemplateColumns="110px repeat(3, 110px)"
            mt="8px"
            fontVariantNumeric="tabular-nums"
            role="presentation"
          >
            <Text color="soft" fontSize="12px">
              {older} ↓ · {newer} →
            </Text>
            {verdicts.map((v) => (
              <Text key={v} fontSize="12px">
                <Mark kind={v} size={9} /> {v}
              </Text>
            ))}
            {verdicts.map((was) => (
              <Fragment key={was}>
                <Text fontSize="12px" py="3px">
                  <Mark kind={was} size={9} /> {was}
                </Text>
                {verdicts.map((is) => (
                  <Text key={is} py="3px" fontWeight={was !== is ? "600" : "400"} color={was === is ? "soft" : "ink"}>
                    {n(data.counts[was]?.[is] ?? 0)}
                  </Text>
                ))}
              </Fragment>
            ))}
          </Box>
          <Statements older={data.older.revision} newer={data.newer.revision} />
        </>
      )}
    </Modal>
  );
}

function Statements({ older, newer }: { older: number; newer: number }) {
  const { data, error } = api.useQuery("get", "/api/v1/policy/revisions/{no}/difference", {
    params: { path: { no: older }, query: { against: newer } },
  });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  const parts = [
    ["It adds", "added"],
    ["It takes away", "removed"],
  ] as const;
  if (data && data.statements.length === 0) return <Text mt="8px">Both are the same.</Text>;
  return (
    <Box mt="8px" maxH="40vh" overflowY="auto">
      {parts.map(([head, kind]) => {
        const all = data?.statements.filter((s) => s.change === kind) ?? [];
        return (
          all.length > 0 && (
            <Box key={head} mt="6px">
              <Text color="soft">{head}</Text>
              {all.map((s) => (
                <Text key={s.text} fontFamily="mono" fontSize="12px">
                  {s.text}
                </Text>
              ))}
            </Box>
          )
        );
      })}
    </Box>
  );
}
