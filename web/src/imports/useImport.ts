// The state of an import: what was said of the file, what the server makes of
// it, and the job that stores it. What people say is kept here and nowhere else:
// an answer that comes late never takes it back.
import { useEffect, useRef, useState } from "react";
import { caughtUp, problem, send as request, type Schemas } from "../api/client";
import { useJob } from "../api/job";
import { type Form, formOf, type ImportReport } from "./form";

export type Kind = "workloads" | "flows";
type Answer = Schemas["ImportAnswer"];

export type Said = {
  source: string;
  complete: boolean;
  directions: boolean;
  carriers: boolean;
  confirm?: number;
  accept: string[];
  form: Form;
};

const nothing: Said = {
  source: "inventory",
  complete: false,
  directions: false,
  carriers: false,
  accept: [],
  form: {},
};

async function send(kind: Kind, file: File, s: Said, preview: boolean): Promise<Answer> {
  const query = new URLSearchParams({
    source: s.source.trim() || "inventory",
    preview: String(preview),
    complete: String(s.complete),
    directions: String(s.directions),
    carriers: String(s.carriers),
    name: file.name,
    form: JSON.stringify(s.form),
  });
  if (s.confirm) query.set("confirm", String(s.confirm));
  if (s.accept.length) query.set("accept", s.accept.join(","));
  const answer = await request(
    () =>
      new Request(`/api/v1/imports/${kind}?${query}`, {
        method: "POST",
        headers: { "Content-Type": "text/csv" },
        body: file,
      }),
  );
  const json: unknown = await answer.json();
  if (!answer.ok) throw json;
  return json as Answer;
}

/** An import of a kind; of the first file at once, if there is one. */
export function useImport(kind: Kind, first?: File) {
  const [file, setFile] = useState<File>();
  const [said, show] = useState<Said>(nothing);
  const latest = useRef(nothing); // what was said last, also where it is not shown yet
  const setSaid = (s: Said) => {
    latest.current = s;
    show(s);
  };
  const [preview, setPreview] = useState<ImportReport>();
  const [job, setJob] = useState<number>();
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const asked = useRef(0);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  const running = useJob(job);
  const ended = running.data && running.data.state !== "running";
  useEffect(() => {
    if (ended) void caughtUp();
  }, [ended]);

  const run = async (dry: boolean, f: File, s: Said) => {
    const mine = ++asked.current;
    setBusy(true);
    try {
      const a = await send(kind, f, s, dry);
      if (mine !== asked.current) return; // something else was asked since
      setWrong(undefined);
      if (a.preview) setPreview(a.preview);
      if (a.job) setJob(a.job.id);
    } catch (e) {
      if (mine !== asked.current) return;
      setPreview(undefined);
      setWrong(problem(e));
    }
    setBusy(false);
  };
  /** Says something of the file; what that makes of it is asked for a moment later, once for several. */
  const say = (more: Partial<Said>, at = 250) => {
    const next = { ...latest.current, confirm: undefined, ...more };
    setSaid(next);
    clearTimeout(timer.current);
    if (!file) return;
    asked.current++; // an answer that is on its way is of before
    setBusy(true);
    timer.current = setTimeout(() => void run(true, file, next), at);
  };
  const choose = (f: File | undefined) => {
    setFile(f);
    setPreview(undefined);
    setWrong(undefined);
    const s = latest.current;
    const next = { ...s, confirm: undefined, accept: [], form: { ...s.form, header: undefined } };
    setSaid(next);
    if (f) void run(true, f, next);
  };
  useEffect(() => {
    if (first) choose(first);
    // eslint-disable-next-line react-hooks/exhaustive-deps -- once, for the file that was dropped
  }, [first]);
  return {
    file,
    said,
    preview,
    busy,
    wrong,
    state: job === undefined ? undefined : running.data,
    form: formOf(said.form, preview?.form),
    choose,
    say,
    sayForm: (more: Partial<Form>) => say({ form: { ...latest.current.form, ...more } }),
    /** Says what one heading or word is. */
    sayWord: (of: "columns" | "outcomes" | "protocols", word: string, as: string) => {
      const f = latest.current.form;
      say({ form: { ...f, [of]: { ...f[of], [word]: as } } });
    },
    /** Says what is not looked at before: nothing is asked for. */
    note: (more: Partial<Said>) => setSaid({ ...latest.current, ...more }),
    store: () => file && void run(false, file, said),
    reset: () => {
      clearTimeout(timer.current);
      asked.current++;
      setFile(undefined);
      setPreview(undefined);
      setJob(undefined);
      setWrong(undefined);
      setBusy(false);
      setSaid({ ...nothing, source: latest.current.source });
    },
  };
}

export type Importing = ReturnType<typeof useImport>;
