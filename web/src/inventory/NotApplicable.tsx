// For which workloads a tag does not apply, so that it is not missing there.
import { Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, Field, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { n, plural } from "../marks/words";

export function NotApplicableDialog({
  facet,
  first,
  onSaved,
  onClose,
}: {
  facet: Schemas["Facet"];
  /** The expression to begin with, where none is kept. */
  first?: string;
  onSaved: () => void;
  onClose: () => void;
}) {
  const kept = facet.notApplicableTo ?? "";
  const [where, setWhere] = useState(kept || (first ?? ""));
  const [wrong, setWrong] = useState<string>();
  const save = api.useMutation("put", "/api/v1/vocabulary/not-applicable");
  const asked = where.trim();
  const found = api.useQuery(
    "get",
    "/api/v1/workloads",
    { params: { query: { q: asked, limit: 1 } } },
    { enabled: !!asked },
  );
  const lacking = api.useQuery(
    "get",
    "/api/v1/workloads",
    {
      params: { query: { q: asked, tag: [`${facet.key}=(missing)`, `${facet.key}=(not applicable)`], limit: 1 } },
    },
    { enabled: !!asked },
  );
  const keep = async (text: string) => {
    setWrong(undefined);
    try {
      await save.mutateAsync({ body: { key: facet.key, where: text } });
      await caughtUp();
      say(text ? `${facet.key} does not apply to ${text}` : `${facet.key} applies to all workloads`);
      onSaved();
      onClose();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const total = found.data?.total;
  const without = lacking.data?.total;
  return (
    <Modal
      title={`Where ${facet.key} does not apply`}
      open
      onClose={onClose}
      size="sm"
      footer={
        <>
          <Btn
            primary
            disabled={!asked || asked === kept || !found.data || !!found.error}
            loading={save.isPending}
            onClick={() => void keep(asked)}
          >
            Save
          </Btn>
          {kept && <Btn onClick={() => void keep("")}>It applies to all</Btn>}
          <Btn onClick={onClose}>Close</Btn>
        </>
      }
    >
      <Field label="Workloads">
        <Entry
          value={where}
          set={setWhere}
          aria-label={`workloads that ${facet.key} does not apply to, an expression`}
          placeholder="tier is desk"
          fontFamily="mono"
          flex="1"
        />
      </Field>
      <Flex minH="20px" mb="8px" role="status">
        {asked && total !== undefined && without !== undefined && !found.error && (
          <Text>
            {plural(total, "workload")}: {n(without)} without {facet.key}
            {total > without ? `, ${n(total - without)} with it, which keep it` : ""}.
          </Text>
        )}
      </Flex>
      <Text color="soft">
        There the tag is neither reported as missing nor suggested. Groups stay as they are: a test of {facet.key} is
        undecided for these workloads. To make it answer no, set a value, for example “none”.
      </Text>
      {(wrong ?? found.error) && <ProblemNote>{wrong ?? problem(found.error)}</ProblemNote>}
    </Modal>
  );
}
