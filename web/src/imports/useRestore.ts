// Restores an export of a whole estate, as a job that is followed.
import { useState } from "react";
import { caughtUp, problem, send } from "../api/client";
import { useJob } from "../api/job";

export function useRestore() {
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const [sending, setSending] = useState(false);
  const { data } = useJob(job);
  const start = async (file: File) => {
    setWrong(undefined);
    setSending(true);
    try {
      const answer = await send(
        () =>
          new Request("/api/v1/estate", {
            method: "POST",
            headers: { "Content-Type": "application/x-ndjson" },
            body: file,
          }),
      );
      const began = (await answer.json()) as { id: number };
      if (!answer.ok) throw began;
      setJob(began.id);
      await caughtUp();
    } catch (e) {
      setWrong(problem(e));
    }
    setSending(false);
  };
  const words = sending
    ? "reading…"
    : data?.state === "running"
      ? data.message || "starting"
      : data?.state === "done"
        ? "Restored."
        : data?.message;
  return { start, words: wrong ?? words, failed: !!wrong || data?.state === "failed", done: data?.state === "done" };
}
