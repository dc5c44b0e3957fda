// Policy: what do the rules say, and what is still to be decided?
import { Box, Flex, Grid, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { api, problem, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { moveFocus } from "../ledger/shared";
import { Btn, Empty, Link, ProblemNote, Sentence, Switches } from "../marks/Controls";
import { Mark } from "../marks/Marks";
import { Menu } from "../marks/Menu";
import { n, percent, plural } from "../marks/words";
import { Definitions } from "./Definitions";
import { follow, type Held } from "./follow";
import { Proposals } from "./Proposals";
import { RuleForm } from "./RuleForm";
import { RuleRow } from "./RuleRow";
import { TextView } from "./TextView";

type Statement = Schemas["StatementOut"];

export function PolicyView() {
  const w = useWindow();
  const { search, change } = useAddress();
  const { data: p, error } = api.useQuery("get", "/api/v1/policy", { params: { query: w } });
  const dropped = (useLocation().state as { text?: string } | null)?.text;
  const asText = search.get("text") === "1";
  // How wide the proposals are depends on whether there are any: nothing is drawn before, so that
  // nothing moves.
  const proposals = api.useQuery("get", "/api/v1/proposals", {});
  if (error) return <ProblemNote>{problem(error)}</ProblemNote>;
  if (!p || proposals.isPending) return null;
  const decided = p.counts.permit + p.counts.reject;
  const total = decided + p.counts.uncovered;
  return (
    <Grid
      templateColumns={asText ? "minmax(0,1fr)" : { base: "minmax(0,1fr)", md: "minmax(0,1fr) auto" }}
      templateRows={asText ? undefined : { base: "minmax(0,1fr) minmax(0,1fr)", md: "minmax(0,1fr)" }}
      h="100%"
    >
      <Flex direction="column" minH="0" px="20px" pt="12px">
        <Flex gap="6px 16px" align="flex-start" mb="6px" wrap="wrap">
          <Box flex="1" minW="300px">
            <Sentence>
              {p.rules === 0 ? (
                <>No rules yet: every conversation is uncovered.</>
              ) : total === 0 ? (
                <>{plural(p.rules, "rule")} and no conversations to decide.</>
              ) : (
                <>
                  {plural(p.rules, "rule")} {p.rules === 1 ? "decides" : "decide"} {percent(decided / total)} of what
                  was seen; <UncoveredLink value={p.counts.uncovered} /> {p.counts.uncovered === 1 ? "has" : "have"} no
                  rule.
                </>
              )}
            </Sentence>
          </Box>
          <Flex gap="10px" align="center">
            <Menu
              label="Export"
              items={[
                {
                  shown: "Rules as CSV",
                  href: `/api/v1/rules.csv?${new URLSearchParams(Object.entries(w).filter((e): e is [string, string] => !!e[1]))}`,
                },
                { shown: "The policy’s text", href: "/api/v1/policy.orchard" },
              ]}
            />
            <Switches
              label="how the policy is shown"
              options={[
                { value: "sentences", shown: "Sentences" },
                { value: "text", shown: "Text" },
              ]}
              on={[asText ? "text" : "sentences"]}
              toggle={(v) => change({ text: v === "text" ? "1" : null })}
            />
          </Flex>
        </Flex>
        {asText ? <TextView key={dropped} policy={p} dropped={dropped} /> : <Sentences policy={p} />}
      </Flex>
      {!asText && <Proposals policy={p} />}
    </Grid>
  );
}

function UncoveredLink({ value }: { value: number }) {
  const navigate = useNavigate();
  const { search } = useAddress();
  const keep = new URLSearchParams({ verdict: "uncovered" });
  for (const k of ["from", "to"]) if (search.get(k)) keep.set(k, search.get(k)!);
  return (
    <Link textDecorationColor="accent" onClick={() => void navigate(`/check?${keep}`)}>
      {plural(value, "conversation")}
    </Link>
  );
}

function Sentences({ policy: p }: { policy: Schemas["PolicyOut"] }) {
  const { search, change } = useAddress();
  const [adding, setAdding] = useState<string>();
  const [editing, setEditing] = useState<number>();
  const asked = Number(search.get("line")) || undefined;
  // What is selected is a rule, not a line: it goes along with a rule that moves, at once, or
  // for a moment another one would stand there and take the next press.
  const [held, setHeld] = useState<Held>();
  const now = follow(held, asked, p.statements);
  if (now?.asked !== held?.asked || now?.line !== held?.line || now?.text !== held?.text) setHeld(now);
  const line = now?.line;
  useEffect(() => {
    if (line !== undefined && line !== asked) change({ line: String(line) }, { replace: true });
  }, [line, asked, change]);
  // The keyboard goes along too, once the rules are shown as they are then.
  const [moved, setMoved] = useState<{ to: number; base: number }>();
  const arrived = moved && p.revision > moved.base ? moved : undefined;
  useEffect(() => {
    if (!arrived) return;
    requestAnimationFrame(() => document.querySelector<HTMLElement>(`[data-rule="${arrived.to}"]`)?.focus());
    setMoved(undefined);
  }, [arrived]);
  const layers = p.statements.filter((s) => s.kind === "layer");
  if (layers.length === 0) return <NoLayers policy={p} />;
  return (
    <Box overflowY="auto" flex="1" minH="0" pb="30px" onKeyDown={moveFocus}>
      <Definitions policy={p} />
      {layers.map((layer) => {
        const rules = p.statements.filter((s) => s.kind === "rule" && s.rule!.layer === layer.name);
        return (
          <Box key={layer.line} mt="12px" role="region" aria-label={`layer ${layer.name}`}>
            <Flex align="baseline" gap="10px" borderBottomWidth="1px" borderColor="ink" pb="2px">
              <Text fontFamily="heading" fontSize="16px">
                {layer.name}
              </Text>
              <Text color="soft">{layer.note || hints[layer.name ?? ""] || plural(rules.length, "rule")}</Text>
              <Link ml="auto" color="soft" onClick={() => setAdding(adding === layer.name ? undefined : layer.name)}>
                add a rule
              </Link>
            </Flex>
            {rules.map((s, i) => {
              return editing === s.line ? (
                <RuleForm
                  key={s.line}
                  policy={p}
                  edit={{ op: "change", line: s.line }}
                  start={s.text}
                  onDone={() => setEditing(undefined)}
                />
              ) : (
                <RuleRow
                  key={`${s.text} ${rules.slice(0, i).filter((x) => x.text === s.text).length}`}
                  policy={p}
                  statement={s}
                  above={rules[i - 1]?.line}
                  below={rules[i + 1]?.line}
                  afterBelow={rules[i + 2]?.line}
                  layers={layers.map((l) => l.name!)}
                  selected={line === s.line}
                  onSelect={() => change({ line: line === s.line ? null : String(s.line) }, { replace: true })}
                  onMoved={(to, base) => setMoved({ to, base })}
                  onEdit={() => setEditing(s.line)}
                />
              );
            })}
            {rules.length === 0 && adding !== layer.name && (
              <Text color="soft" py="4px">
                no rules
              </Text>
            )}
            {adding === layer.name && (
              <RuleForm
                policy={p}
                edit={{ op: "add", layer: layer.name }}
                start=""
                onDone={() => setAdding(undefined)}
              />
            )}
          </Box>
        );
      })}
      <Rest policy={p} />
    </Box>
  );
}

const hints: Record<string, string> = {
  guardrails: "decide first",
  separations: "environments kept apart",
  allowances: "what applications need",
  closing: "what happens to the rest",
};

/** The last row: what happens to what no rule matches is said, not implied. */
function Rest({ policy: p }: { policy: { counts: Schemas["CountsOut"] } }) {
  return (
    <Flex align="center" gap="8px" py="5px" borderBottomWidth="1px" borderColor="line2">
      <Text w="28px" />
      <Mark kind="uncovered" />
      <Text color="soft">
        all other traffic is <b>uncovered</b>: no rule decides it
      </Text>
      <Text ml="auto" color="open" fontWeight="600">
        {n(p.counts.uncovered)}
      </Text>
    </Flex>
  );
}

const start = ["guardrails", "separations", "allowances", "closing"].map((l) => `layer ${l}`).join("\n");

function NoLayers({ policy: p }: { policy: { revision: number } }) {
  const save = api.useMutation("post", "/api/v1/policy/edits");
  return (
    <Empty title="The policy is empty">
      Layers decide in order. Start with the usual four (guardrails, separations, allowances, closing), or import a
      text.
      <Flex mt="10px" gap="8px">
        <Btn primary onClick={() => void save.mutateAsync({ body: { revision: p.revision, op: "add", text: start } })}>
          Start with four layers
        </Btn>
      </Flex>
    </Empty>
  );
}

export type { Statement };
