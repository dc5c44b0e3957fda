// Keeps all points from a workload until a day, with a reason and somebody who answers
// for it.
import { Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";

const day = (ms: number) => new Date(ms).toISOString().slice(0, 10);

export function Exempt({
  id,
  name,
  was,
  close,
}: {
  id: string;
  name: string;
  was?: Schemas["ExemptionOut"];
  close: () => void;
}) {
  const put = api.useMutation("put", "/api/v1/exemptions/{id}");
  const end = api.useMutation("delete", "/api/v1/exemptions/{id}");
  const [x, setX] = useState(() => ({
    reason: was?.reason ?? "",
    owner: was?.owner ?? "",
    ends: was ? was.ends.slice(0, 10) : day(Date.now() + 30 * 86_400_000),
  }));
  const [failed, setFailed] = useState("");
  const go = async (run: () => Promise<unknown>, done: string) => {
    setFailed("");
    try {
      await run();
      say(done);
      close();
    } catch (e) {
      setFailed(problem(e));
    }
    await caughtUp();
  };
  const keep = () =>
    go(
      () =>
        put.mutateAsync({
          params: { path: { id } },
          body: { reason: x.reason, owner: x.owner, ends: `${x.ends}T00:00:00Z` },
        }),
      `No point guards ${name} until ${x.ends}`,
    );
  return (
    <Modal
      title={`Exempt ${name}`}
      open
      onClose={close}
      size="lg"
      footer={
        <>
          <Btn
            primary
            loading={put.isPending}
            disabled={!x.reason.trim() || !x.owner.trim() || !x.ends}
            onClick={() => void keep()}
          >
            Exempt it
          </Btn>
          {was && (
            <Btn
              onClick={() => void go(() => end.mutateAsync({ params: { path: { id } } }), `Points guard ${name} again`)}
            >
              End it now
            </Btn>
          )}
          <Btn onClick={close}>Cancel</Btn>
        </>
      }
    >
      <Flex direction="column" gap="8px">
        <Entry
          autoFocus
          aria-label="reason for the exemption"
          placeholder="reason: its vendor forbids changes"
          maxLength={500}
          value={x.reason}
          set={(v) => setX({ ...x, reason: v })}
        />
        <Entry
          aria-label="owner of the exemption"
          placeholder="owner of the exemption"
          maxLength={200}
          value={x.owner}
          set={(v) => setX({ ...x, owner: v })}
        />
        <Flex gap="8px" align="center">
          <Text>until</Text>
          <Entry type="date" w="160px" aria-label="until when" value={x.ends} set={(v) => setX({ ...x, ends: v })} />
        </Flex>
        <Text color="soft" fontSize="12.5px">
          No point checks its traffic. Points that guard the other end still apply their release.
        </Text>
        {failed && <ProblemNote>{failed}</ProblemNote>}
      </Flex>
    </Modal>
  );
}
