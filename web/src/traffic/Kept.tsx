// For how long traffic is kept; what other bounds would delete is shown first.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { bytes, n, onDay, plural } from "../marks/words";

const gigabyte = 1_000_000_000;

export function Kept() {
  const [draft, setDraft] = useState<{ conversationDays: number; recordDays: number; mostBytes: number }>();
  const now = api.useQuery("get", "/api/v1/retention", {});
  const tried = api.useQuery("get", "/api/v1/retention", { params: { query: draft ?? {} } }, { enabled: !!draft });
  const put = api.useMutation("put", "/api/v1/retention");
  const [wrong, setWrong] = useState<string>();
  const r = now.data;
  if (!r) return null;
  const is = draft ?? r;
  const field = (name: "conversationDays" | "recordDays" | "mostBytes", label: string, unit: string, scale = 1) => (
    <chakra.label display="flex" gap="6px" alignItems="center">
      {label}
      <Entry
        w="76px"
        type="number"
        min={0}
        aria-label={label}
        value={is[name] ? String(is[name] / scale) : ""}
        placeholder="all"
        set={(v) =>
          setDraft({
            conversationDays: is.conversationDays,
            recordDays: is.recordDays,
            mostBytes: is.mostBytes,
            [name]: Math.max(0, Math.round(Number(v) * scale)),
          })
        }
      />
      {unit}
    </chakra.label>
  );
  const save = async () => {
    setWrong(undefined);
    try {
      await put.mutateAsync({
        body: { conversationDays: is.conversationDays, recordDays: is.recordDays, mostBytes: is.mostBytes },
      });
      setDraft(undefined);
      say("How long traffic is kept is changed");
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const deletes = draft && tried.data ? tried.data.deletes : [];
  const first = r.days.find((d) => d.what === "conversations");
  return (
    <>
      <Text fontFamily="heading" fontSize="16px" mt="18px" mb="4px">
        How long traffic is kept
      </Text>
      <Text color="soft" mb="6px">
        {r.days.length
          ? `${bytes(r.bytes)} on disk, since ${first ? onDay(first.day) : "now"}. `
          : "No traffic is stored yet. "}
        Hourly conversations are small: keep them for a year. Single records show the details of the last weeks.
      </Text>
      <Flex gap="20px" wrap="wrap" align="center">
        {field("conversationDays", "conversations", "days")}
        {field("recordDays", "single records", "days")}
        {field("mostBytes", "at most", "GB on disk; the oldest records are deleted first", gigabyte)}
        {draft && (
          <Flex gap="6px">
            <Btn primary onClick={() => void save()}>
              {deletes.length ? `Save, and delete ${bytes(tried.data!.deletedBytes)}` : "Save"}
            </Btn>
            <Btn onClick={() => setDraft(undefined)}>Cancel</Btn>
          </Flex>
        )}
      </Flex>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {draft && tried.data && (
        <Text mt="6px" color={deletes.length ? "reject" : "soft"} role="status">
          {deletes.length === 0
            ? "This deletes nothing now."
            : `This deletes ${["conversations", "records"]
                .map((what) => deletes.filter((d) => d.what === what))
                .filter((d) => d.length)
                .map(
                  (d) =>
                    `the ${d[0]!.what} of ${plural(d.length, "day")} (${onDay(d[0]!.day)} to ${onDay(d.at(-1)!.day)}${d.some((x) => x.rows) ? `, about ${n(d.reduce((s, x) => s + x.rows, 0))} rows` : ""})`,
                )
                .join(", and ")}. It cannot be undone.`}
        </Text>
      )}
    </>
  );
}
