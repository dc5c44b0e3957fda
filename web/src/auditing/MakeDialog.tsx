// Evidence for an auditor: for which promise, over which period, and whether it is made
// by itself from now on.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { api, problem } from "../api/client";
import { useJob } from "../api/job";
import { say } from "../frame/toaster";
import { Btn, Entry, Field, Link, ProblemNote, Select } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { promised, usualPeriods } from "./evidence";

export function MakeDialog({ first, close }: { first?: string; close: () => void }) {
  const { data } = api.useQuery("get", "/api/v1/evidence/promises");
  const make = api.useMutation("post", "/api/v1/evidence");
  const schedule = api.useMutation("post", "/api/v1/evidence-schedules");
  const drop = api.useMutation("delete", "/api/v1/jobs/{id}");
  const navigate = useNavigate();
  const usual = usualPeriods(new Date());
  const [promise, setPromise] = useState(first);
  const [from, setFrom] = useState(usual[0]!.from);
  const [to, setTo] = useState(usual[0]!.to);
  const [every, setEvery] = useState<"" | "month" | "quarter">("");
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const running = useJob(job).data;
  const chosen = promise ?? data?.assertions[0] ?? (data?.groups[0] && `group ${data.groups[0]}`) ?? "";
  const run = async () => {
    setWrong(undefined);
    try {
      setJob((await make.mutateAsync({ body: { promise: chosen, from, to } })).id);
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const cancel = () => {
    if (job === undefined) return close();
    setJob(undefined);
    drop.mutate({ params: { path: { id: job } } });
  };
  const made = running?.state === "done" ? (running.result as { evidence: number }).evidence : undefined;
  const failed = running && running.state !== "running" && running.state !== "done" ? running.message : undefined;
  useEffect(() => {
    if (made === undefined) return;
    const over = () => {
      close();
      void navigate(`/evidence/${made}`);
    };
    if (!every) return over();
    schedule.mutateAsync({ body: { promise: chosen, every } }).then(over, (e) => {
      over();
      say(problem(e), "error"); // it was made, and is there; that it is not made again has to be known
    });
    // Once, as soon as it is made.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [made]);
  useEffect(() => {
    if (failed === undefined) return;
    setWrong(failed);
    setJob(undefined);
  }, [failed]);
  const doing = make.isPending || job !== undefined;
  return (
    <Modal
      title="Evidence for an auditor"
      open
      onClose={() => {
        cancel();
        close();
      }}
      size="lg"
      footer={
        <>
          {doing && (
            <Text color="soft" mr="auto" role="status">
              {running ? `${running.message || "reading…"}, ${Math.round(running.done * 100)} %` : "starting…"}
            </Text>
          )}
          <Btn onClick={cancel}>Cancel</Btn>
          <Btn primary loading={doing} disabled={!chosen || !from || !to} onClick={() => void run()}>
            Create
          </Btn>
        </>
      }
    >
      <Text color="soft" mb="6px">
        Shows day by day whether a promise held, from the policy, points and machines of that time: who was allowed to
        reach it, who did, who was exempt, who changed what.
      </Text>
      <Field label="That">
        <Select aria-label="promise" maxW="100%" value={chosen} onChange={(e) => setPromise(e.target.value)} autoFocus>
          {first && !data?.assertions.includes(first) && <option value={first}>{promised(first)}</option>}
          <optgroup label="Assertions of the draft">
            {data?.assertions.map((a) => (
              <option key={a} value={a}>
                {promised(a)}
              </option>
            ))}
          </optgroup>
          <optgroup label="Who reaches a group">
            {data?.groups.map((g) => (
              <option key={g} value={`group ${g}`}>
                {g}
              </option>
            ))}
          </optgroup>
        </Select>
      </Field>
      <Field label="From">
        <Entry w="140px" type="date" aria-label="first day" value={from} set={setFrom} />
        <chakra.span color="soft">to</chakra.span>
        <Entry w="140px" type="date" aria-label="last day" value={to} set={setTo} />
        <Text color="soft">UTC</Text>
      </Field>
      <Field label="">
        <Flex gap="10px" wrap="wrap">
          {usual.map((p) => (
            <Link
              key={p.word}
              onClick={() => {
                setFrom(p.from);
                setTo(p.to);
              }}
            >
              {p.word}
            </Link>
          ))}
        </Flex>
      </Field>
      <Field label="Repeat">
        <Select
          aria-label="repeat"
          value={every}
          onChange={(e) => setEvery(e.target.value as "" | "month" | "quarter")}
        >
          <option value="">no</option>
          <option value="month">after each month</option>
          <option value="quarter">after each quarter</option>
        </Select>
      </Field>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Modal>
  );
}
