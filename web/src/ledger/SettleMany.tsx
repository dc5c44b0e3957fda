// Several rows of the ledger at once: permitted, rejected, or rightly rejected, in one
// step that is undone as one.
import { chakra, Flex, type FlexProps, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, caughtUp, fetchClient, problem } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, Link, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { plural } from "../marks/words";
import { type How, type Target, targetOf } from "./settling";
import type { LedgerQuery } from "./shared";

const words: Record<How, string> = { permit: "Permit", reject: "Reject", rightly: "Rightly rejected:" };
const widths = [
  ["exact", "exactly these"],
  ["groups", "their groups"],
  ["wider", "wider"],
] as const;

/** Under the rows: what can be done with several of them. */
function Strip({ label, ...rest }: FlexProps & { label: string }) {
  return (
    <Flex
      role="region"
      aria-label={label}
      gap="10px"
      align="center"
      px="14px"
      py="7px"
      bg="tint"
      borderTopWidth="1px"
      borderColor="accent"
      flexShrink={0}
      {...rest}
    />
  );
}

/** What is selected, with what can be done with it. */
export function Selected({ rows, open, clear }: { rows: Target[]; open: (how: How) => void; clear: () => void }) {
  return (
    <Strip label="selected rows" data-selected={rows.length}>
      <Text fontWeight="600">{plural(rows.length, "row")} selected</Text>
      <Btn onClick={() => open("permit")}>Permit…</Btn>
      <Btn onClick={() => open("reject")}>Reject…</Btn>
      <Btn onClick={() => open("rightly")}>Rightly so…</Btn>
      <Link ml="auto" onClick={clear}>
        Clear
      </Link>
    </Strip>
  );
}

/** How many rows are settled in one step. */
const most = 500;

/** What was set aside, to be settled as one, or each row by a rule of its own. */
export function Together({
  query,
  open,
  select,
}: {
  query: LedgerQuery;
  open: (how: How, t: Target) => void;
  select: (rows: Target[]) => void;
}) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/v1/ledger", { params: { query: { ...w, ...query, limit: most } } });
  if (!data || data.total === 0) return null;
  const counts = data.rows.reduce(
    (all, r) => ({
      permit: all.permit + r.counts.permit,
      reject: all.reject + r.counts.reject,
      uncovered: all.uncovered + r.counts.uncovered,
    }),
    { permit: 0, reject: 0, uncovered: 0 },
  );
  const all = { words: `all ${plural(data.total, "row")} that match the filters`, counts };
  return (
    <Strip label="settle together" data-together={data.total}>
      <Text>{plural(data.total, "row")}, by one rule:</Text>
      <Btn onClick={() => open("permit", all)}>Permit…</Btn>
      <Btn onClick={() => open("reject", all)}>Reject…</Btn>
      <Text ml="14px">or each by its own rule:</Text>
      <Btn onClick={() => select(data.rows.map((r) => targetOf(r, query.turn === "reaches")))}>
        {data.total > most ? `Select the first ${most} rows` : "Select all rows"}
      </Btn>
    </Strip>
  );
}

type Props = { as: How; rows: Target[]; query: LedgerQuery; close: (done: boolean) => void };

export function SettleMany({ as, rows, query, close }: Props) {
  const w = useWindow();
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const settle = api.useMutation("post", "/api/v1/settle/rows");
  const [width, setWidth] = useState<"exact" | "groups" | "wider">("groups");
  const [reason, setReason] = useState("");
  const [wrong, setWrong] = useState<string>();
  const revision = summary.data?.revision ?? 0;
  const body = {
    revision,
    as,
    width,
    reason,
    rows: rows.map((r) => ({ near: r.near ?? "", far: r.far, service: r.service ?? "" })),
  };
  const would = useQuery({
    queryKey: ["settling rows", as, width, body.rows, revision, w, query],
    enabled: revision > 0,
    queryFn: async () => {
      const out = await fetchClient.POST("/api/v1/settle/rows", {
        params: { query: { ...w, ...query, dryRun: true } },
        body,
      });
      if (out.error) throw out.error;
      return out.data;
    },
  });
  const errors = would.data?.errors ?? [];
  const run = async () => {
    try {
      const out = await settle.mutateAsync({ params: { query: { ...w, ...query } }, body });
      say(`${out.words}; Ctrl Z undoes it`);
      close(true);
    } catch (e) {
      setWrong(problem(e));
    }
    await caughtUp();
  };
  return (
    <Modal
      title={`${words[as]} ${plural(rows.length, "row")}`}
      open
      onClose={() => close(false)}
      size="xl"
      footer={
        <>
          <Btn onClick={() => close(false)}>Cancel</Btn>
          <Btn
            primary
            loading={settle.isPending}
            disabled={!would.data || errors.length > 0 || (as === "rightly" && !reason.trim())}
            onClick={() => void run()}
          >
            {as === "rightly" ? "Save as probes" : "Add to the draft"}
          </Btn>
        </>
      }
    >
      {(wrong || would.error) && <ProblemNote>{wrong ?? problem(would.error)}</ProblemNote>}
      {errors.map((e) => (
        <ProblemNote key={e.message}>{e.message}</ProblemNote>
      ))}
      {rows.slice(0, 10).map((r) => (
        <Text key={r.words} truncate>
          {r.words}
        </Text>
      ))}
      {rows.length > 10 && <Text color="soft">and {rows.length - 10} more</Text>}
      {as === "rightly" ? (
        <Entry
          mt="8px"
          autoFocus
          aria-label="reason"
          placeholder="Why are they rightly rejected? The reason is saved with each."
          value={reason}
          set={setReason}
        />
      ) : (
        <Flex mt="8px" mb="8px" gap="14px" role="radiogroup" aria-label="width of the rules">
          <Text color="soft">One rule each, for</Text>
          {widths.map(([value, name]) => (
            <chakra.label key={value} display="flex" gap="5px" alignItems="center">
              <input type="radio" name="width" checked={width === value} onChange={() => setWidth(value)} />
              {name}
            </chakra.label>
          ))}
        </Flex>
      )}
      {would.data?.consequences && <ConsequencesList c={would.data.consequences} />}
    </Modal>
  );
}
