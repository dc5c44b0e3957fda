// What derivation proposes, to be judged one by one with the keyboard, or many
// at once by a filter.
import { Box, chakra, Flex, Progress, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { useKeys } from "../frame/keys";
import { Btn, Empty, Entry, Link, Select } from "../marks/Controls";
import { n, onDay, percent, plural } from "../marks/words";
import { Aside } from "./Aside";
import { Curve } from "./Curve";
import { Gone } from "./Gone";
import { FoldRow } from "./FoldRow";
import { folded } from "./judge";
import { choiceAt, type Proposal, useJudging } from "./judging";
import { Many } from "./Many";
import { Meter } from "./Meter";
import { ProposalCard, ProposalHead, ProposalLine } from "./ProposalRow";
import { Tags } from "./Tags";

export function Proposals({ policy }: { policy: Schemas["PolicyOut"] }) {
  const j = useJudging(policy.revision);
  const cancel = api.useMutation("delete", "/api/v1/jobs/{id}");
  const [on, setOn] = useState<string>();
  const [refusing, setRefusing] = useState<string>();
  const [stepped, setStepped] = useState<Record<string, number>>({});
  const [filter, setFilter] = useState("");
  const [clean, setClean] = useState(false);
  const [scope, setScope] = useState("");
  const [many, setMany] = useState<{ what: "take" | "as one" | "refuse"; list: Proposal[] }>();
  const { d } = j;
  const words = filter.toLowerCase().split(/\s+/).filter(Boolean);
  const [opened, setOpened] = useState<string[]>([]);
  const filtered = j.judged.filter(
    (p) => words.every((x) => p.key.toLowerCase().includes(x)) && (!clean || (p.warnings.length === 0 && !p.alone)),
  );
  const folds = folded(filtered);
  // What is folded is no stop of the arrows.
  const shown = folds.flatMap((f) => (f.shape && !opened.includes(f.shape) ? [] : f.list));
  const current = shown.find((p) => p.key === on) ?? shown[0];
  const at = (p: Proposal) => choiceAt(p, stepped[p.key]);
  const shift = (by: number) =>
    current && setStepped({ ...stepped, [current.key]: choiceAt(current, at(current) + by) });
  const next = () => {
    const i = shown.findIndex((p) => p.key === current?.key);
    setOn((shown[i + 1] ?? shown[i - 1])?.key);
  };
  const take = (p = current) => {
    if (!p) return;
    if (p.barred && at(p) >= p.own) {
      setOn(p.key);
      return; // only narrowed: the row says so
    }
    next();
    void j.take([{ p, at: at(p) }]);
  };
  const refuse = (reason: string) => {
    const p = j.judged.find((x) => x.key === refusing);
    setRefusing(undefined);
    if (!p) return;
    if (p.key === current?.key) next();
    void j.refuse([p], reason);
  };
  const step = (by: number) => {
    const i = shown.findIndex((p) => p.key === current?.key);
    const to = shown[Math.min(shown.length - 1, Math.max(0, i + by))];
    if (to) setOn(to.key);
  };
  useKeys({
    ArrowDown: () => step(1),
    ArrowUp: () => step(-1),
    t: () => take(),
    n: () => shift(-1),
    w: () => shift(1),
    r: () => current && setRefusing(current.key),
    l: () => {
      if (!current) return;
      next();
      j.postpone(current);
    },
  });
  const tooWide = j.judged.filter((p) => p.barred).length;
  const run = () => void j.run(scope.startsWith("area ") ? { area: scope.slice(5) } : scope ? { group: scope } : {});
  const groups = policy.statements.filter((s) => s.kind === "group").map((s) => s.name!);
  const areas = policy.statements.filter((s) => s.kind === "area").map((s) => s.name!);
  return (
    <Flex
      direction="column"
      borderLeftWidth="1px"
      borderColor="line"
      bg="sheet"
      minH="0"
      minW="0"
      w={{ base: "auto", md: j.judged.length > 0 ? "62vw" : "max(340px, 38vw)" }}
      pt="10px"
      aria-label="proposals"
      role="region"
    >
      <Flex px="16px" align="center" gap="8px" wrap="wrap">
        <Text data-left={j.judged.length} fontFamily="heading" fontSize="17px">
          {d ? plural(j.judged.length, "proposal") : "Proposals"}
        </Text>
        {d && j.point && j.point.balance !== d.balance && (
          <Text color="soft" fontSize="12px" title="The step above counts proposals at the balance of the derivation">
            at this balance ·{" "}
            <Link onClick={() => j.move(d.balance)}>{n(j.derivedFor)} at the balance of the derivation</Link>
          </Text>
        )}
        {tooWide > 0 && (
          <Text color="soft" fontSize="12px" title="listed last; not part of the curve">
            {tooWide} to narrow first
          </Text>
        )}
        <chakra.label ml="auto" display="flex" gap="5px" alignItems="center" fontSize="12px" color="soft">
          for
          <Select
            aria-label="what to derive for"
            maxW="120px"
            h="25px"
            value={scope}
            onChange={(e) => setScope(e.target.value)}
          >
            <option value="">everything</option>
            {areas.map((a) => (
              <option key={a} value={`area ${a}`}>
                area {a}
              </option>
            ))}
            {groups.map((g) => (
              <option key={g}>{g}</option>
            ))}
          </Select>
        </chakra.label>
        <Btn onClick={run} loading={!!j.running} primary={!d}>
          {d ? "Derive again" : "Derive from the window"}
        </Btn>
      </Flex>
      {d?.scope && (
        <Text px="16px" color="soft" fontSize="12px">
          Only what touches {d.scope}.
        </Text>
      )}
      {j.running && (
        <Flex px="16px" gap="10px" align="center" mt="6px" role="status">
          <Progress.Root value={j.running.done * 100} size="xs" flex="1">
            <Progress.Track>
              <Progress.Range bg="accent" />
            </Progress.Track>
          </Progress.Root>
          <Link
            onClick={() =>
              void j.guard(() => cancel.mutateAsync({ params: { path: { id: j.running!.id } } }), "Cancelled")
            }
          >
            cancel
          </Link>
        </Flex>
      )}
      {j.list.data?.job?.state === "failed" && (
        <Text px="16px" color="reject">
          The last derivation failed: {j.list.data.job.message}
        </Text>
      )}
      {d && d.path.length > 1 && (
        <Curve curve={d.path} balance={j.point?.balance ?? d.balance} choose={j.move} left={j.left} />
      )}
      {j.point?.parts && <Meter parts={j.point.parts} />}
      {d && (j.judged.length > 4 || words.length > 0 || clean) && (
        <Flex px="16px" gap="8px" align="center" mt="4px">
          <Entry
            h="24px"
            flex="1"
            minW="0"
            placeholder="filter: booking 5432"
            aria-label="filter the proposals"
            value={filter}
            set={setFilter}
          />
          <chakra.label display="flex" gap="4px" fontSize="12px" whiteSpace="nowrap">
            <input type="checkbox" checked={clean} onChange={(e) => setClean(e.target.checked)} />
            no warnings
          </chakra.label>
          {(words.length > 0 || clean) && filtered.length > 0 && (
            <>
              <Btn h="24px" onClick={() => setMany({ what: "take", list: filtered.filter((p) => !p.alone) })}>
                Take {n(filtered.filter((p) => !p.alone).length)}…
              </Btn>
              <Btn h="24px" onClick={() => setMany({ what: "refuse", list: filtered })}>
                Refuse…
              </Btn>
            </>
          )}
        </Flex>
      )}
      {j.list.data?.stale && j.judged.length > 0 && (
        <Text px="16px" color="soft" fontSize="12px">
          Derived {onDay(d!.from)} – {onDay(d!.to)} on revision {d!.revision}. Conversations that the draft has decided
          since then do not count.
        </Text>
      )}
      {d && <Tags list={d.tags} />}
      <Box overflowY="auto" flex="1 1 0" minH="150px" data-proposals>
        {folds.length > 0 && <ProposalHead />}
        {folds.map((f) =>
          f.shape && !opened.includes(f.shape) ? (
            <FoldRow
              key={f.shape}
              fold={f}
              open={() => {
                setOpened([...opened, f.shape!]);
                setOn(f.list[0]!.key);
              }}
              take={() => setMany({ what: "take", list: f.list })}
              takeAsOne={() => setMany({ what: "as one", list: f.list })}
            />
          ) : (
            f.list.map((p) => (
              <ProposalLine
                key={p.id}
                p={p}
                at={at(p)}
                current={p === current}
                later={j.later.includes(p.key)}
                choose={() => setOn(p.key)}
              />
            ))
          ),
        )}
        {!d && !j.running && (
          <Empty title="Nothing derived yet">
            {policy.counts.uncovered > 0
              ? `${plural(policy.counts.uncovered, "conversation")} of the window have no rule. Derivation proposes rules for usual traffic and sets unusual traffic aside.`
              : "Every conversation of the window is decided."}
          </Empty>
        )}
        {d && j.judged.length > 0 && filtered.length === 0 && (
          <Empty title={`${plural(j.judged.length, "proposal")} left, none of which this filter shows`}>
            <Link
              onClick={() => {
                setFilter("");
                setClean(false);
              }}
            >
              Show all
            </Link>
          </Empty>
        )}
        {d && j.judged.length === 0 && (
          <Empty title="All judged">
            {d.considered > 0
              ? `Of ${plural(d.considered, "conversation")} looked at, ${percent(d.covered / d.considered)} found a proposal; the others were set aside.`
              : "Nothing to propose."}{" "}
            After a week of traffic, derive again: you will see only what is new or gone.
          </Empty>
        )}
        {d && <Gone list={d.gone} revision={policy.revision} />}
        {d && <Aside list={d.aside} />}
        {j.refused.length > 0 && (
          <Box px="16px" py="8px" color="soft">
            <Text>{n(j.refused.length)} refused, or taken in another form</Text>
            {j.refused.map((p) => (
              <Flex key={p.key} gap="8px">
                <Text truncate>{p.key}</Text>
                <Text flexShrink={0}>“{p.refused!.reason || "no reason given"}”</Text>
                <Link ml="auto" flexShrink={0} onClick={() => void j.again(p)}>
                  judge again
                </Link>
              </Flex>
            ))}
          </Box>
        )}
      </Box>
      {current && (
        <Box
          flex="0 1 auto"
          maxH="36%"
          overflowY="auto"
          borderTopWidth="1px"
          borderColor="ink"
          bg="tint"
          role="region"
          aria-label="the selected proposal"
        >
          <ProposalCard
            key={current.id}
            p={current}
            at={at(current)}
            revision={policy.revision}
            later={j.later.includes(current.key)}
            refusing={refusing === current.key}
            shift={shift}
            take={() => take(current)}
            askRefuse={() => setRefusing(current.key)}
            refuse={refuse}
            cancelRefuse={() => setRefusing(undefined)}
          />
        </Box>
      )}
      <chakra.div px="16px" py="5px" borderTopWidth="1px" borderColor="line2" color="soft" fontSize="11.5px">
        T takes · N narrows · W widens · R refuses · L later · arrows move · Ctrl Z undoes
      </chakra.div>
      {many && (
        <Many
          what={many.what}
          list={many.list.filter((p) => !p.barred || many.what === "refuse").map((p) => ({ p, at: at(p) }))}
          revision={policy.revision}
          judging={j}
          close={() => setMany(undefined)}
        />
      )}
    </Flex>
  );
}
