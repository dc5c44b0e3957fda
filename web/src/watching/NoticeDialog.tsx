// A notice as a sentence to fill in: when, of what, to whom.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem } from "../api/client";
import { say } from "../frame/toaster";
import { Btn, Entry, Field, Link, ProblemNote } from "../marks/Controls";
import { Modal } from "../marks/Modal";
import { DestinationDialog } from "./DestinationDialog";
import { type Notice, useNotices } from "./notices";
import { about, kindWords, type Matter, memberOf, noticeFilter, plain } from "./watch";

type Pace = Notice["pace"];

const minutes = (t: string) => {
  const [h, m] = t.split(":").map(Number);
  return (h ?? 0) * 60 + (m ?? 0);
};
const clock = (m?: number) =>
  m === undefined ? "" : `${String(Math.floor(m / 60)).padStart(2, "0")}:${String(m % 60).padStart(2, "0")}`;

/** What has to be filled in before the notice can be saved; blank: nothing. */
function lacking(to: string[], from: string, until: string, ends: string) {
  if (to.length === 0) return "Choose at least one destination.";
  if (from && !until) return "Quiet hours have no end: fill in until.";
  if (until && !from) return "Quiet hours have no start: fill in from.";
  if (from && from === until) return "Quiet hours start and end at the same time.";
  if (ends && new Date(`${ends}T23:59:59`) < new Date()) return "The last day has passed.";
  return "";
}

export function NoticeDialog({
  first,
  of,
  selects,
  matters,
  close,
}: {
  first?: Notice;
  of?: Matter;
  /** a filter of the ledger, as notices keep it */
  selects?: string;
  matters: Matter[];
  close: () => void;
}) {
  const { data } = useNotices();
  const groups = api.useQuery("get", "/api/v1/groups");
  const saved = useSavedFilters();
  const add = api.useMutation("post", "/api/v1/watch/notices");
  const change = api.useMutation("put", "/api/v1/watch/notices/{id}");
  const [pace, setPace] = useState<Pace>(first?.pace ?? "at once");
  const [kinds, setKinds] = useState<string[]>(first?.kinds ?? (of ? [of.kind] : ["leak"]));
  const [who, setWho] = useState(first?.who ?? "");
  const [what, setWhat] = useState(first?.what ?? "");
  const [matter, setMatter] = useState(first?.matter ?? of?.id ?? "");
  const [filter, setFilter] = useState(first?.filter ?? selects ?? "");
  const [to, setTo] = useState<string[]>();
  const [from, setFrom] = useState(clock(first?.quietFrom));
  const [until, setUntil] = useState(clock(first?.quietUntil));
  const [ends, setEnds] = useState(first?.ends?.slice(0, 10) ?? "");
  const [making, setMaking] = useState(false);
  const [wrong, setWrong] = useState<string>();
  const all = data?.destinations ?? [];
  const chosen = to ?? first?.to ?? (all.length === 1 ? [all[0]!.name] : []);
  const toggle = (list: string[], x: string) => (list.includes(x) ? list.filter((y) => y !== x) : [...list, x]);
  const one = matters.find((m) => m.id === matter);
  const lacks = lacking(chosen, from, until, ends);
  const run = async () => {
    const body = {
      kinds: filter ? [] : kinds,
      who: matter || filter ? "" : who.trim(),
      what: matter || filter ? "" : what.trim(),
      matter: filter ? "" : matter,
      filter,
      pace,
      to: chosen,
      quiet: from && until ? { from: minutes(from), until: minutes(until) } : undefined,
      ends: ends ? new Date(`${ends}T23:59:59`).toISOString() : undefined,
      paused: first?.paused ?? false,
    };
    try {
      if (first) await change.mutateAsync({ params: { path: { id: first.id } }, body });
      else await add.mutateAsync({ body });
      say(`Notifies ${pace}, when ${about(body, one ? plain(one) : "")}`);
      close();
      await caughtUp(["watch"]);
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const names = (groups.data ?? []).map((g) => g.name);
  return (
    <Modal
      title="Notify me when …"
      open
      onClose={close}
      size="xl"
      footer={
        <>
          {lacks && (
            <Text color="soft" mr="auto" role="status" data-lacks>
              {lacks}
            </Text>
          )}
          <Btn onClick={close}>Cancel</Btn>
          <Btn primary disabled={!!lacks} loading={add.isPending || change.isPending} onClick={() => void run()}>
            {first ? "Save" : "Notify me"}
          </Btn>
        </>
      }
    >
      <Text fontSize="15px" mb="10px" data-sentence>
        {pace}, when <b>{about({ kinds, who, what, matter, filter }, one ? plain(one) : "")}</b> →{" "}
        {chosen.join(", ") || "…"}
      </Text>
      <Field label="when">
        {(["at once", "hourly", "daily"] as const).map((p) => (
          <Btn
            key={p}
            aria-pressed={pace === p}
            borderColor={pace === p ? "accent" : "line"}
            onClick={() => setPace(p)}
          >
            {p}
          </Btn>
        ))}
        <Text color="soft">
          {pace === "at once"
            ? "many at once make one message with their number"
            : pace === "hourly"
              ? "a summary at the full hour"
              : "a summary at 08:00 UTC"}
        </Text>
      </Field>
      {filter ? (
        <Field label="of">
          <Text>
            traffic that matches this filter of the ledger, permitted or not:{" "}
            <chakra.a
              href={`/check?${filter}`}
              target="_blank"
              color="accent"
              textDecoration="underline"
              aria-label="its current matches, in a new tab"
            >
              {saved.find((s) => s.filter === filter)?.name ?? "see its current matches"}
            </chakra.a>
          </Text>
          {!selects && <Link onClick={() => setFilter("")}>use matters instead</Link>}
        </Field>
      ) : matter ? (
        <Field label="of">
          <Text>
            just this: <b>{one ? plain(one) : matter}</b>
          </Text>
          <Link onClick={() => setMatter("")}>any like it</Link>
        </Field>
      ) : (
        <>
          <Field label="of">
            {(data?.kinds ?? []).map((k) => (
              <Btn
                key={k}
                aria-pressed={kinds.includes(k)}
                borderColor={kinds.includes(k) ? "accent" : "line"}
                bg={kinds.includes(k) ? "tintStrong" : "sheet"}
                title={kindWords[k]}
                onClick={() => setKinds(toggle(kinds, k))}
              >
                {k}
              </Btn>
            ))}
            {kinds.length === 0 && <Text color="soft">of any kind</Text>}
            {saved.length === 0 ? (
              <Text color="soft">or of any traffic: set filters under Check, and press Notify me… there</Text>
            ) : (
              <chakra.select
                aria-label="or a saved selection of the ledger"
                value=""
                onChange={(e) => setFilter(e.target.value)}
                bg="sheet"
                borderWidth="1px"
                borderColor="line"
                borderRadius="5px"
                h="27px"
                px="4px"
              >
                <option value="">or a saved selection…</option>
                {saved.map((s) => (
                  <option key={s.name} value={s.filter}>
                    {s.name}
                  </option>
                ))}
              </chakra.select>
            )}
          </Field>
          <Field label="from">
            <Ends label="from whom" value={who} set={setWho} names={names} any="anybody" />
          </Field>
          <Field label="into">
            <Ends label="into what" value={what} set={setWhat} names={names} any="anything" />
          </Field>
        </>
      )}
      <Field label="to">
        {all.map((d) => (
          <Btn
            key={d.name}
            aria-pressed={chosen.includes(d.name)}
            borderColor={chosen.includes(d.name) ? "accent" : "line"}
            bg={chosen.includes(d.name) ? "tintStrong" : "sheet"}
            onClick={() => setTo(toggle(chosen, d.name))}
          >
            {d.name}
          </Btn>
        ))}
        <Link onClick={() => setMaking(true)}>{all.length ? "another +" : "Add a destination…"}</Link>
      </Field>
      <Field label="quiet">
        <Text color="soft">from</Text>
        <Entry type="time" w="110px" aria-label="quiet from, UTC" value={from} set={setFrom} />
        <Text color="soft">until</Text>
        <Entry type="time" w="110px" aria-label="quiet until, UTC" value={until} set={setUntil} />
        <Text color="soft">UTC; messages wait until then. It ends on</Text>
        <Entry type="date" w="150px" aria-label="last day" value={ends} set={setEnds} />
      </Field>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
      {making && (
        <DestinationDialog
          close={(name) => {
            setMaking(false);
            if (name) setTo([...chosen, name]);
          }}
        />
      )}
    </Modal>
  );
}

/** The saved selections of the ledger, as notices can keep them. */
function useSavedFilters() {
  const flows = api.useQuery("get", "/api/v1/selections", { params: { query: { list: "flows" } } });
  const check = api.useQuery("get", "/api/v1/selections", { params: { query: { list: "check" } } });
  return [...(check.data ?? []), ...(flows.data ?? [])]
    .map((s) => ({ name: s.name, filter: noticeFilter(s.filter) }))
    .filter((s) => s.filter);
}

/** Which ends: an expression, or the members of a group by a press. */
function Ends({
  label,
  value,
  set,
  names,
  any,
}: {
  label: string;
  value: string;
  set: (v: string) => void;
  names: string[];
  any: string;
}) {
  return (
    <Box w="100%">
      <Flex gap="8px" align="center">
        <Entry
          flex="1"
          aria-label={label}
          placeholder={`${any}; or an expression, such as ${memberOf(names[0] ?? "protected")}`}
          value={value}
          set={set}
          fontFamily={value ? "mono" : undefined}
        />
        <chakra.select
          aria-label={`${label}: members of a group`}
          value=""
          onChange={(e) => e.target.value && set(memberOf(e.target.value))}
          bg="sheet"
          borderWidth="1px"
          borderColor="line"
          borderRadius="5px"
          h="27px"
          w="150px"
          px="4px"
        >
          <option value="">a group…</option>
          {names.map((g) => (
            <option key={g}>{g}</option>
          ))}
        </chakra.select>
      </Flex>
    </Box>
  );
}
