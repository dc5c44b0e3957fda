// Two pieces of evidence beside each other: what is in one and not in the other.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { api, problem, type Schemas } from "../api/client";
import { PageLink } from "../frame/PageLink";
import { useAddress } from "../frame/address";
import { Btn, ProblemNote, Sentence } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { period, states } from "./evidence";

type Comparison = Schemas["Comparison"];

/** What tells one of the two from the other. */
const name = (c: Comparison, p: Comparison["before"]) =>
  c.same ? period(p.from, p.to) : `${p.promise.words}, ${period(p.from, p.to)}`;

export function ComparePage() {
  const { search } = useAddress();
  const before = Number(search.get("before"));
  const after = Number(search.get("after"));
  const { data, error } = api.useQuery("get", "/api/v1/evidence/comparison", { params: { query: { before, after } } });
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!data)
    return (
      <Text p="20px" color="soft">
        Loading…
      </Text>
    );
  const moved = data.may.length + data.did.length + data.members.length + data.points.length;
  return (
    <Box h="100%" overflowY="auto" px="20px" py="12px" _print={{ overflow: "visible", h: "auto", p: 0 }}>
      <Flex gap="8px" mb="6px" _print={{ display: "none" }}>
        <PageLink to="/evidence">All evidence</PageLink>
        <Btn ml="auto" onClick={() => window.print()}>
          Print
        </Btn>
      </Flex>
      <Box maxW="960px">
        <Sentence>
          {moved === 0
            ? "The same clients may reach it, the same did, and the same points guard it"
            : `${plural(data.may.length, "allowed client")}, ${plural(data.did.length, "caller")}, ${plural(data.members.length, "member")} and ${plural(data.points.length, "point")} differ`}
          .
        </Sentence>
        <Text color="soft" mt="2px">
          {data.same
            ? data.before.promise.words
            : `${data.before.promise.words}, compared with: ${data.after.promise.words}`}
        </Text>
        <Beside c={data} />
        <Moves title="Who may reach it at the end" list={data.may} c={data} />
        <Moves title="Who reached it" list={data.did} c={data} />
        <Moves title="Protected workloads" list={data.members} c={data} />
        <Moves title="Points that guard them" list={data.points} c={data} />
      </Box>
    </Box>
  );
}

function Beside({ c }: { c: Comparison }) {
  const two = [c.before, c.after];
  const cell = { py: "2px", px: "12px", textAlign: "right", borderBottomWidth: "1px", borderColor: "line2" } as const;
  const rows: [string, (p: Comparison["before"]) => number][] = [
    ["days", (p) => p.counts.days],
    ...states.map((s): [string, (p: Comparison["before"]) => number] => [`days ${s.word}`, (p) => p.counts[s.state]]),
    ["periods in which it was broken", (p) => p.breaks],
    ["callers", (p) => p.callers],
    ["connections carried", (p) => p.total.permitted + p.total.uncovered + p.total.leaks],
    ["carried but uncovered", (p) => p.total.uncovered],
    ["leaked", (p) => p.total.leaks],
    ["dropped", (p) => p.total.held + p.total.chokes],
    ["exemptions", (p) => p.exempt],
  ];
  return (
    <chakra.table mt="12px" fontSize="12.5px" aria-label="both periods">
      <thead>
        <tr>
          <td />
          {two.map((p, i) => (
            <chakra.th key={i} {...cell} fontWeight="600">
              {name(c, p)}
            </chakra.th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows
          .filter(([, of]) => two.some((p) => of(p) > 0))
          .map(([word, of]) => (
            <chakra.tr key={word} fontWeight={of(c.before) === of(c.after) ? undefined : "600"}>
              <chakra.td {...cell} textAlign="left" pl="0" color="soft" fontWeight="400">
                {word}
              </chakra.td>
              {two.map((p, i) => (
                <chakra.td key={i} {...cell}>
                  {n(of(p))}
                </chakra.td>
              ))}
            </chakra.tr>
          ))}
      </tbody>
    </chakra.table>
  );
}

function Moves({ title, list, c }: { title: string; list: Comparison["may"]; c: Comparison }) {
  if (list.length === 0) return null;
  return (
    <Box mt="18px">
      <Text as="h2" fontFamily="heading" fontSize="16px" pb="3px" borderBottomWidth="1px" borderColor="ink">
        {title}
      </Text>
      {list.slice(0, 200).map((m, i) => (
        <Flex key={i} gap="10px" py="2px" borderBottomWidth="1px" borderColor="line2">
          <Text flex="1" minW="0">
            {m.names ? <chakra.code fontFamily="mono">{m.what}</chakra.code> : m.what}
            {m.names && (
              <chakra.span color="soft">
                {" "}
                {plural(m.much ?? 0, "client")}: {m.names.join(", ")}
                {m.names.length < (m.much ?? 0) && " …"}
              </chakra.span>
            )}
            {m.much && !m.names ? <chakra.span color="soft"> {plural(m.much, "connection")}</chakra.span> : null}
          </Text>
          <Text color="soft" whiteSpace="nowrap">
            only {name(c, m.in === "before" ? c.before : c.after)}
          </Text>
        </Flex>
      ))}
      {list.length > 200 && <Text color="soft">and {n(list.length - 200)} more</Text>}
    </Box>
  );
}
