// Who can still administer each machine that a wave guards, and from where that is known.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { useCarried, useWindow } from "../frame/address";
import { Btn, Link, ProblemNote } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Modal } from "../marks/Modal";
import { n, plural } from "../marks/words";
import { nameOf, type Wave } from "./waves";

/** At most so many machines are listed; those into which nobody gets come first. */
const most = 1000;

export function AccessDialog({ wave, release, close }: { wave: Wave; release: number; close: () => void }) {
  const w = useWindow();
  const navigate = useNavigate();
  const carried = useCarried();
  const { data, error } = api.useQuery("get", "/api/v1/rollout/waves/{no}/access", {
    params: { path: { no: wave.no }, query: { ...w, limit: most } },
  });
  const shut = data?.filter((m) => !m.open).length ?? 0;
  return (
    <Modal
      title={`Who can administer the machines of ${wave.title ? nameOf(wave) : `wave ${wave.no}`}`}
      open
      size="lg"
      onClose={close}
      footer={<Btn onClick={close}>Close</Btn>}
    >
      {error && <ProblemNote>{problem(error)}</ProblemNote>}
      {!data && !error && <Text color="soft">Loading…</Text>}
      {data && (
        <>
          <Text mb="6px">
            Under release {release},{" "}
            {shut ? `nobody could administer ${n(shut)} of ` : "somebody can administer all of "}
            {plural(data.length, "machine")}.
          </Text>
          <Box maxH="50vh" overflowY="auto">
            {data.map((m) => (
              <Flex
                key={m.id}
                gap="8px"
                py="3px"
                align="baseline"
                borderBottomWidth="1px"
                borderColor="line2"
                data-machine={m.id}
                data-open={m.open}
              >
                <Mark kind={m.open ? "permit" : "reject"} size={10} />
                <Link
                  w="170px"
                  flexShrink={0}
                  truncate
                  fontWeight="600"
                  onClick={() => void navigate(`/workloads/${encodeURIComponent(m.id)}${carried}`)}
                >
                  {m.name}
                </Link>
                <Text>{m.words}</Text>
              </Flex>
            ))}
          </Box>
          {data.length === most && <Text color="soft">the first {n(most)}</Text>}
        </>
      )}
    </Modal>
  );
}
