// What of the tags needs a decision: suggestions for missing ones, values that
// look misspelt, and sources that disagree.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp, type Schemas } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWhy, useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { moveFocus } from "../ledger/shared";
import { Btn, Empty, Link, ProblemNote } from "../marks/Controls";
import { n, plural } from "../marks/words";

type Suggestion = Schemas["Suggestion"];
const idOf = (s: { workload: string; key: string; value: string }) => `${s.workload} ${s.key} ${s.value}`;

export function Suggestions() {
  const w = useWindow();
  const { show } = useWhy();
  const { data, error } = api.useQuery("get", "/api/v1/suggestions");
  const accept = api.useMutation("post", "/api/v1/suggestions/accept");
  const look = api.useMutation("post", "/api/v1/suggestions/accept");
  const refuse = api.useMutation("post", "/api/v1/suggestions/refuse");
  const [chosen, setChosen] = useState<Set<string>>(new Set());
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text px="20px" color="soft">
        Looking for similar workloads…
      </Text>
    );
  const all = data.suggestions;
  const picked = all.filter((s) => chosen.has(idOf(s)));
  const tags = (list: Suggestion[]) => list.map(({ workload, key, value }) => ({ workload, key, value }));
  const choose = (next: Set<string>) => {
    setChosen(next);
    const list = all.filter((s) => next.has(idOf(s)));
    if (list.length) look.mutate({ params: { query: { ...w, dryRun: true } }, body: { tags: tags(list) } });
  };
  const toggle = (s: Suggestion) => {
    const next = new Set(chosen);
    if (!next.delete(idOf(s))) next.add(idOf(s));
    choose(next);
  };
  const done = async (what: string, run: Promise<unknown>) => {
    try {
      await run;
      say(what);
      setChosen(new Set());
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  const take = (list: Suggestion[]) =>
    done(
      list.length === 1
        ? `Set ${list[0]!.key} = ${list[0]!.value} on ${list[0]!.name}`
        : `Accepted ${plural(list.length, "suggestion")}`,
      accept.mutateAsync({ params: { query: w }, body: { tags: tags(list) } }),
    );
  const drop = (list: Suggestion[]) =>
    done(`Refused ${plural(list.length, "suggestion")}`, refuse.mutateAsync({ body: { tags: tags(list) } }));
  return (
    <Flex direction="column" flex="1" minH="0">
      <Flex px="20px" py="4px" gap="10px" align="center">
        <Text color="soft">
          {plural(all.length, "suggestion")} for {n(data.lacking)} missing tags.{" "}
          {data.complete
            ? "Unsure cases get no suggestion."
            : `Updating after a change: ${Math.round(100 * data.done)} % done…`}
        </Text>
        {all.length > 0 && (
          <Link onClick={() => choose(chosen.size ? new Set() : new Set(all.map(idOf)))}>
            {chosen.size ? "Choose none" : "Choose all"}
          </Link>
        )}
        <chakra.a
          href="/api/v1/suggestions.csv"
          download
          ml="auto"
          color="soft"
          textDecoration="underline"
          textUnderlineOffset="3px"
        >
          Export CSV
        </chakra.a>
      </Flex>
      <Box flex="1" minH="0" overflowY="auto" onKeyDown={moveFocus}>
        {all.length === 0 && !data.complete && (
          <Text px="20px" py="10px" color="soft">
            Comparing workloads that lack tags with the others: {Math.round(100 * data.done)} % done…
          </Text>
        )}
        {all.length === 0 && data.complete && (
          <Empty title="Nothing to suggest">
            {data.lacking === 0
              ? "No structural tag is missing."
              : "No workload is similar enough to those that lack tags. More traffic helps, or set the tags by hand."}
          </Empty>
        )}
        {all.map((s) => (
          <Flex
            key={idOf(s)}
            data-row="0"
            data-suggestion={`${s.name} ${s.key}`}
            role="group"
            aria-label={`${s.name} ${s.key}`}
            tabIndex={0}
            gap="10px"
            px="20px"
            py="5px"
            align="baseline"
            borderBottomWidth="1px"
            borderColor="line2"
            bg={chosen.has(idOf(s)) ? "tint" : undefined}
            _hover={{ bg: "tint" }}
            _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
            onKeyDown={(e) => {
              if (e.target !== e.currentTarget) return;
              if (e.key === " ") toggle(s);
              else if (e.key === "a") void take([s]);
              else if (e.key === "r") void drop([s]);
              else if (e.key === "Enter") show({ kind: "workload", id: s.workload });
              else return;
              e.preventDefault();
            }}
          >
            <input
              type="checkbox"
              tabIndex={-1}
              aria-label={`choose ${s.key} of ${s.name}`}
              checked={chosen.has(idOf(s))}
              onChange={() => toggle(s)}
            />
            <Box w="150px" flexShrink={0}>
              <Link fontWeight="600" onClick={() => show({ kind: "workload", id: s.workload })}>
                {s.name}
              </Link>
            </Box>
            <Text w="150px" flexShrink={0}>
              {s.key} = <b>{s.value}</b>
            </Text>
            <Text
              w="118px"
              flexShrink={0}
              title={`Of ${plural(s.tried, "workload")} whose ${s.key} is known and that are judged as surely, the same judgement finds the right value for ${n(Math.round(s.right * s.tried))}. ${Math.round(s.likeness * 100)} % of what tells values apart is shared with those that it resembles`}
            >
              right in {n(Math.round(s.right * s.tried))} of {n(s.tried)}
            </Text>
            <Text flex="1" color="soft" minW="0">
              as {s.like.map((l) => l.name).join(", ")}: {s.because.join("; ")}
            </Text>
            <Btn onClick={() => void take([s])}>Accept</Btn>
            <Btn onClick={() => void drop([s])}>Refuse</Btn>
          </Flex>
        ))}
        {data.refused.length > 0 && (
          <Box px="20px" py="10px">
            <Text color="soft">Refused; not suggested again:</Text>
            {data.refused.map((r) => (
              <Flex key={idOf(r)} gap="8px" data-refused={r.name}>
                <Text>
                  {r.name}: {r.key} = {r.value}
                </Text>
                <Text color="soft">by {r.author}</Text>
                <Link
                  onClick={() =>
                    void done(
                      "Allowed again",
                      refuse.mutateAsync({
                        body: { tags: [{ workload: r.workload, key: r.key, value: r.value }], again: true },
                      }),
                    )
                  }
                >
                  Allow again
                </Link>
              </Flex>
            ))}
          </Box>
        )}
      </Box>
      {picked.length > 0 && (
        <Flex
          borderTopWidth="2px"
          borderColor="accent"
          bg="sheet"
          px="20px"
          py="10px"
          gap="30px"
          maxH="200px"
          overflowY="auto"
          align="flex-start"
          role="region"
          aria-label="accept or refuse"
        >
          <Box flexShrink={0}>
            <Text fontFamily="heading" fontSize="15px" mb="5px">
              {plural(picked.length, "suggestion")} chosen
            </Text>
            <Flex gap="6px">
              <Btn primary onClick={() => void take(picked)}>
                Accept {n(picked.length)}
              </Btn>
              <Btn onClick={() => void drop(picked)}>Refuse {n(picked.length)}</Btn>
            </Flex>
          </Box>
          {look.data && <ConsequencesList c={look.data} />}
        </Flex>
      )}
    </Flex>
  );
}

export function Slips() {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/v1/vocabulary/misspellings");
  const mend = api.useMutation("post", "/api/v1/vocabulary/fix");
  const look = api.useMutation("post", "/api/v1/vocabulary/fix");
  if (!data) return null;
  const run = async (misspellings: Schemas["Misspelling"][]) => {
    try {
      await mend.mutateAsync({ params: { query: w }, body: { misspellings } });
      say(
        misspellings.length === 1
          ? `${misspellings[0]!.value} is read as ${misspellings[0]!.like}`
          : `Fixed ${plural(misspellings.length, "value")}`,
      );
      look.reset();
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Box flex="1" minH="0" overflowY="auto" px="20px" py="4px">
      <Flex gap="10px" align="center" mb="4px">
        <Text color="soft">
          Values that differ from a usual one only in case, spaces, punctuation or one letter. A fix sets the usual
          value by hand; undo reverts it.
        </Text>
        {data.length > 0 && (
          <>
            <chakra.a
              href="/api/v1/misspellings.csv"
              download
              color="soft"
              textDecoration="underline"
              textUnderlineOffset="3px"
              whiteSpace="nowrap"
            >
              Export CSV
            </chakra.a>
            <Btn
              onClick={() => look.mutate({ params: { query: { ...w, dryRun: true } }, body: { misspellings: data } })}
            >
              Consequences of fixing all
            </Btn>
            <Btn primary onClick={() => void run(data)}>
              Fix all {n(data.length)}
            </Btn>
          </>
        )}
      </Flex>
      {look.data && <ConsequencesList c={look.data} />}
      {data.length === 0 && <Empty title="No value looks misspelt">Near-duplicates of usual values appear here.</Empty>}
      {data.map((s) => (
        <Flex
          key={`${s.key} ${s.value}`}
          gap="10px"
          py="4px"
          align="baseline"
          borderBottomWidth="1px"
          borderColor="line2"
          data-slip={s.value}
        >
          <Text w="80px" color="soft">
            {s.key}
          </Text>
          <Text w="180px" fontFamily="mono" fontSize="12px">
            {s.value.replaceAll(" ", "␣")}
          </Text>
          <Text w="110px" color="soft">
            {plural(s.count, "workload")}
          </Text>
          <Btn onClick={() => void run([s])}>same as {s.like}</Btn>
        </Flex>
      ))}
    </Box>
  );
}

export function Disagreements() {
  const w = useWindow();
  const { show } = useWhy();
  const { data } = api.useQuery("get", "/api/v1/disagreements", { params: { query: { limit: 500 } } });
  const set = api.useMutation("post", "/api/v1/tags");
  if (!data) return null;
  const settle = async (workload: string, key: string, value: string) => {
    try {
      await set.mutateAsync({ params: { query: w }, body: { workloads: [workload], key, value } });
      say(`Settled: ${key} of ${workload} is ${value}`);
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Box flex="1" minH="0" overflowY="auto" px="20px" py="4px">
      <Flex gap="10px">
        <Text color="soft">
          {data.total === 0
            ? ""
            : `${plural(data.total, "tag")} on which sources disagree. The first value counts until you choose one, which sets it by hand.`}
        </Text>
        <chakra.a
          href="/api/v1/disagreements.csv"
          download
          ml="auto"
          color="soft"
          textDecoration="underline"
          textUnderlineOffset="3px"
        >
          Export CSV
        </chakra.a>
      </Flex>
      {data.total === 0 && (
        <Empty title="The sources agree">Workloads with different values of a tag from two sources appear here.</Empty>
      )}
      {data.disagreements.map((d) => (
        <Flex
          key={`${d.workload} ${d.key}`}
          gap="10px"
          py="4px"
          align="center"
          borderBottomWidth="1px"
          borderColor="line2"
          data-disagreement={`${d.workload} ${d.key}`}
        >
          <Box w="170px" flexShrink={0}>
            <Link fontWeight="600" onClick={() => show({ kind: "workload", id: d.workload })}>
              {d.name}
            </Link>
          </Box>
          <Text w="70px" color="soft">
            {d.key}
          </Text>
          {d.values.map((v, i) => (
            <Flex key={v.source} align="baseline" gap="5px">
              <Btn
                onClick={() => void settle(d.workload, d.key, v.value)}
                title={`settle: ${d.key} is ${v.value}`}
                fontWeight={i === 0 ? "600" : "400"}
              >
                {v.value || "nothing"}
              </Btn>
              <Text color="soft" fontSize="11.5px">
                {v.source}
                {i === 0 && ", counts"}
              </Text>
            </Flex>
          ))}
        </Flex>
      ))}
      {data.total > data.disagreements.length && (
        <Text color="soft">and {n(data.total - data.disagreements.length)} more; the export has all</Text>
      )}
    </Box>
  );
}
