// A workload's page: what it is, what may reach it and what it may reach, what
// was seen of it, and how its tags came about.
import { besides } from "../marks/layout";
import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { api, problem, type Schemas } from "../api/client";
import { useAddress, useCarried, useWhy, useWindow } from "../frame/address";
import { Pair } from "../frame/WhyParts";
import { Memberships, Tags } from "../frame/WorkloadParts";
import { Ledger } from "../ledger/Ledger";
import { Empty, Link, ProblemNote, Sentence, Switches } from "../marks/Controls";
import { Mark, VerdictBar } from "../marks/Marks";
import { atMinute, n, onDay, plural } from "../marks/words";
import { Exempt } from "../releasing/Exempt";
import { stateOf, troubled } from "../releasing/waves";

const parts = ["rules", "traffic", "tags"] as const;
type Part = (typeof parts)[number];

export function WorkloadPage() {
  const id = useParams().id!;
  const w = useWindow();
  const { search, change } = useAddress();
  const navigate = useNavigate();
  const carried = useCarried();
  const part: Part = parts.find((p) => p === search.get("part")) ?? "rules";
  const { data: it, error } = api.useQuery("get", "/api/v1/workloads/{id}", { params: { path: { id } } });
  const points = api.useQuery("get", "/api/v1/workloads/{id}/points", { params: { path: { id }, query: w } });
  const enforced = Math.max(0, ...(points.data?.map((p) => p.held?.enforces ?? 0) ?? []));
  const release = search.get("by") === "draft" ? 0 : enforced; // what its point enforces comes first
  const { data: rules } = api.useQuery(
    "get",
    "/api/v1/workloads/{id}/rules",
    { params: { path: { id }, query: { ...w, release: release || undefined } } },
    { enabled: !!points.data },
  );
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!it) return null;
  const sum = (c?: Schemas["CountsOut"]) => (c ? c.permit + c.reject + c.uncovered : 0);
  return (
    <Grid {...besides("300px")} h="100%">
      <Box borderRightWidth="1px" borderColor="line" overflowY="auto" px="20px" py="12px">
        <Link color="soft" onClick={() => void navigate(`/workloads${carried}`)}>
          ← all workloads
        </Link>
        <Text fontFamily="heading" fontSize="19px" mt="4px">
          {it.name}
        </Text>
        {it.retired && <Text color="open">retired {onDay(it.retired)}: no source lists it</Text>}
        {it.id !== it.name && <Pair left="id">{it.id}</Pair>}
        {(it.os || it.kind) && <Pair left="machine">{[it.kind, it.os].filter(Boolean).join(", ")}</Pair>}
        <Head>Tags</Head>
        <Tags tags={it.tags} />
        <Head>Addresses over time</Head>
        {it.leases.length === 0 && <Text color="soft">none known</Text>}
        {it.leases.map((l) => (
          <Flex key={l.addr + l.from + l.until} gap="8px" align="baseline">
            <Text fontFamily="mono" fontSize="12px" fontWeight={l.now ? "600" : "400"}>
              {l.addr}
            </Text>
            <Text color="soft" fontSize="12px">
              {l.from ? onDay(l.from) : "always"} – {l.until ? onDay(l.until) : "now"}
            </Text>
          </Flex>
        ))}
        <Head>Guarded by</Head>
        <GuardedBy id={id} name={it.name} />
        <Head>Groups</Head>
        <Memberships groups={it.groups} />
      </Box>
      <Flex direction="column" minH="0" px="20px" pt="12px">
        <Sentence>
          {rules ? (
            <>
              {plural(rules.in.length, "rule")} of {release ? `release ${release}` : "the draft"} can decide traffic to{" "}
              <b>{it.name}</b>, {n(rules.out.length)} traffic from it;{" "}
              {n(rules.toIt.uncovered + rules.fromIt.uncovered)} of its{" "}
              {plural(sum(rules.toIt) + sum(rules.fromIt), "conversation")}{" "}
              {rules.toIt.uncovered + rules.fromIt.uncovered === 1 ? "is" : "are"} uncovered.
            </>
          ) : (
            it.name
          )}
        </Sentence>
        <Flex py="8px" gap="12px">
          {enforced > 0 && part === "rules" && (
            <Switches
              label="rules of"
              on={[release ? "release" : "draft"]}
              toggle={(by) => change({ by: by === "draft" ? "draft" : null })}
              options={[
                { value: "release", shown: `Release ${enforced}, enforced` },
                { value: "draft", shown: "Draft" },
              ]}
            />
          )}
          <Switches
            label="part"
            on={[part]}
            toggle={(p) => change({ part: p === "rules" ? null : p })}
            options={[
              { value: "rules", shown: "Effective rules" },
              { value: "traffic", shown: "What was seen" },
              { value: "tags", shown: "Tags over time" },
            ]}
          />
        </Flex>
        {part === "rules" && rules && (
          <Grid
            templateColumns={{ base: "minmax(0,1fr)", md: "minmax(0,1fr) minmax(0,1fr)" }}
            gap="28px"
            overflowY="auto"
            minH="0"
          >
            <Side title="What may reach it" list={rules.in} counts={rules.toIt} draft={!release} />
            <Side title="What it may reach" list={rules.out} counts={rules.fromIt} draft={!release} />
          </Grid>
        )}
        {part === "traffic" && <Traffic id={id} name={it.name} />}
        {part === "tags" && rules && <TagHistory rules={rules} />}
      </Flex>
    </Grid>
  );
}

function Head({ children }: { children: React.ReactNode }) {
  return (
    <Text fontFamily="heading" mt="12px" mb="2px">
      {children}
    </Text>
  );
}

/** The rules that can decide, in deciding order, layer by layer. */
function Side({
  title,
  list,
  counts,
  draft,
}: {
  title: string;
  list: Schemas["EffectiveRule"][];
  counts: Schemas["CountsOut"];
  draft: boolean; // its rules can be opened: lines of a release are others
}) {
  const { show } = useWhy();
  const layers = [...new Set(list.map((r) => r.layer))];
  return (
    <Box role="region" aria-label={title}>
      <Flex align="center" gap="10px" borderBottomWidth="1px" borderColor="line" pb="3px">
        <Text fontFamily="heading" fontSize="16px">
          {title}
        </Text>
        <VerdictBar counts={counts} width={108} />
      </Flex>
      {list.length === 0 && <Text color="soft">No rule can match, so all its traffic is uncovered.</Text>}
      {layers.map((layer) => (
        <Box key={layer} mt="6px">
          <Text color="soft" fontSize="11.5px">
            {layer}
          </Text>
          {list
            .filter((r) => r.layer === layer)
            .map((r) => (
              <Flex
                key={r.line}
                gap="7px"
                py="3px"
                align="baseline"
                borderBottomWidth="1px"
                borderColor="line2"
                data-effective={r.line}
              >
                <Text
                  color="soft"
                  w="28px"
                  textAlign="right"
                  flexShrink={0}
                  title={`line ${r.line} of the policy text`}
                >
                  {r.line}
                </Text>
                <Mark kind={r.verdict} size={10} />
                {draft ? (
                  <Link flex="1" minW="0" textDecoration="none" onClick={() => show({ kind: "rule", line: r.line })}>
                    {r.sentence}
                  </Link>
                ) : (
                  <Text flex="1" minW="0">
                    {r.sentence}
                  </Text>
                )}
                <Text
                  color={r.hits ? "ink" : "soft"}
                  flexShrink={0}
                  title="conversations of the window that it decides"
                >
                  {n(r.hits)}
                </Text>
              </Flex>
            ))}
        </Box>
      ))}
    </Box>
  );
}

function Traffic({ id, name }: { id: string; name: string }) {
  const { search, change } = useAddress();
  const turn = search.get("turn") === "reaches" ? "reaches" : "reached";
  return (
    <Flex direction="column" flex="1" minH="0">
      <Switches
        label="direction"
        on={[turn]}
        toggle={(t) => change({ turn: t === "reaches" ? t : null })}
        options={[
          { value: "reached", shown: "Who reaches it" },
          { value: "reaches", shown: "What it reaches" },
        ]}
      />
      <Ledger
        query={{ workload: id, turn }}
        empty={
          <Empty title="Nothing was seen in the window">
            {turn === "reached" ? `Nothing reached ${name}.` : `${name} reached nothing.`}
          </Empty>
        }
      />
    </Flex>
  );
}

function TagHistory({ rules }: { rules: Schemas["WorkloadRules"] }) {
  const cell = { px: "10px", py: "2px", borderBottomWidth: "1px", borderColor: "line2", textAlign: "left" } as const;
  return (
    <Box overflowY="auto" minH="0">
      <chakra.table fontSize="12.5px">
        <thead>
          <tr>
            {["Tag", "Value", "Reported by", "From", "Until"].map((h) => (
              <chakra.th key={h} {...cell} fontWeight="500" color="soft">
                {h}
              </chakra.th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rules.said.map((v, i) => (
            <tr key={v.key + v.source}>
              <chakra.td {...cell}>{v.key}</chakra.td>
              <chakra.td {...cell} fontWeight={rules.said[i - 1]?.key === v.key ? "400" : "600"}>
                {v.value || <i>has no value</i>}
              </chakra.td>
              <chakra.td {...cell}>
                {v.source}
                {v.author !== "import" && `, ${v.author}`}
                {rules.said[i - 1]?.key === v.key && <chakra.span color="soft"> (outranked)</chakra.span>}
              </chakra.td>
              <chakra.td {...cell}>{atMinute(v.at)}</chakra.td>
              <chakra.td {...cell}>now</chakra.td>
            </tr>
          ))}
          {rules.former.map((v, i) => (
            <chakra.tr key={`former ${i}`} color="soft" data-former={v.key}>
              <chakra.td {...cell}>{v.key}</chakra.td>
              <chakra.td {...cell}>{v.value || "had no value"}</chakra.td>
              <chakra.td {...cell}>
                {v.source}
                {v.author !== "import" && `, ${v.author}`}
              </chakra.td>
              <chakra.td {...cell}>{atMinute(v.at)}</chakra.td>
              <chakra.td {...cell}>{atMinute(v.until)}</chakra.td>
            </chakra.tr>
          ))}
        </tbody>
      </chakra.table>
      {rules.said.length === 0 && rules.former.length === 0 && (
        <Text color="soft">No source has reported any tags for this workload.</Text>
      )}
    </Box>
  );
}

/** Which enforcement points guard it, and what they hold. */
function GuardedBy({ id, name }: { id: string; name: string }) {
  const w = useWindow();
  const navigate = useNavigate();
  const carried = useCarried();
  const { data, error } = api.useQuery("get", "/api/v1/workloads/{id}/points", {
    params: { path: { id }, query: w },
  });
  const exemptions = api.useQuery("get", "/api/v1/exemptions", {});
  const exempt = exemptions.data?.find((e) => e.workload === id && !e.over);
  const [asking, setAsking] = useState(false);
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  return (
    <>
      {data?.length === 0 && !exempt && <Text color="soft">no enforcement point</Text>}
      {exempt && (
        <Text data-exempt>
          no point until {onDay(exempt.ends)}: {exempt.reason} ({exempt.owner})
        </Text>
      )}
      {data?.map((p) => (
        <Flex key={p.name} gap="8px" align="baseline" data-guarded-by={p.name}>
          <Link onClick={() => void navigate(`/release${carried}${carried ? "&" : "?"}point=${p.name}`)}>{p.name}</Link>
          <Text color={troubled([p]).length ? "reject" : "soft"} fontSize="12px">
            {p.side === "both" ? "" : `as ${p.side}, `}
            {stateOf(p)}
          </Text>
        </Flex>
      ))}
      <Link color="soft" fontSize="12px" onClick={() => setAsking(true)}>
        {exempt ? "change…" : "exempt it…"}
      </Link>
      {asking && <Exempt id={id} name={name} was={exempt} close={() => setAsking(false)} />}
    </>
  );
}
