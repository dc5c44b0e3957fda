// Workloads: what is there, and what is not known of it?
import { besides } from "../marks/layout";
import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { useAddress } from "../frame/address";
import { ImportDialog } from "../imports/ImportDialog";
import { Btn, Chip, Empty, Link, ProblemNote, Sentence, Switches } from "../marks/Controls";
import { LookAround } from "../frame/Estate";
import { Menu } from "../marks/Menu";
import { n, plural } from "../marks/words";
import { Selections } from "../frame/Selections";
import { countOf, type Editing, type Filter, type Guarded, guardings } from "./editing";
import { Facets, missing, notApplicable } from "./Facets";
import { PasteDialog } from "./PasteDialog";
import { Disagreements, Slips, Suggestions } from "./Review";
import { SourcesDialog } from "./Sources";
import { TagDock } from "./TagDock";
import { WorkloadTable } from "./WorkloadTable";

const modes = ["list", "suggestions", "slips", "disagreements"] as const;
type Mode = (typeof modes)[number];

export function WorkloadsView() {
  const { search, change } = useAddress();
  const [importing, setImporting] = useState(false);
  const [sourcing, setSourcing] = useState(false);
  const [pasting, setPasting] = useState(false);
  const [editing, setEditing] = useState<Editing>({ ids: [] });
  const mode: Mode = modes.find((m) => m === search.get("show")) ?? "list";
  const tag = search.getAll("tag");
  const guarded = (Object.keys(guardings) as Guarded[]).find((g) => g === search.get("guarded"));
  const filter: Filter = {
    q: search.get("q") ?? undefined,
    tag,
    retired: search.get("retired") === "1" || undefined,
    guarded,
  };
  const list = api.useQuery("get", "/api/v1/workloads", { params: { query: { ...filter, limit: 1 } } });
  const facets = api.useQuery("get", "/api/v1/workloads/facets", { params: { query: {} } });
  const suggestions = api.useQuery("get", "/api/v1/suggestions");
  const disagreements = api.useQuery("get", "/api/v1/disagreements", { params: { query: { limit: 1 } } });
  const slips = api.useQuery("get", "/api/v1/vocabulary/misspellings");
  const worst = facets.data?.filter((f) => f.structural).sort((a, b) => b.missing - a.missing)[0];
  const all = list.data?.all ?? 0;
  const exported = new URLSearchParams();
  if (filter.q) exported.set("q", filter.q);
  if (filter.retired) exported.set("retired", "true");
  if (guarded) exported.set("guarded", guarded);
  tag.forEach((t) => exported.append("tag", t));
  const none = list.data && all === 0;
  const counted = {
    list: undefined,
    suggestions: suggestions.data?.suggestions.length,
    slips: slips.data?.length,
    disagreements: disagreements.data?.total,
  };
  const names: Record<Mode, string> = {
    list: "List",
    suggestions: "Suggested tags",
    slips: "Misspelt",
    disagreements: "Disagreements",
  };
  const page = none ? (
    <NoWorkloads onImport={() => setImporting(true)} onSources={() => setSourcing(true)} />
  ) : (
    <Grid {...besides("250px")} h="100%">
      <Facets filter={filter} onMend={setEditing} />
      <Flex direction="column" minH="0" pt="12px">
        <Box px="20px">
          <Sentence>
            {worst && worst.missing > 0 ? (
              <>
                <Link onClick={() => change({ tag: [`${worst.key}=${missing}`], show: null })}>
                  {plural(worst.missing, "workload")}
                </Link>{" "}
                {worst.missing === 1 ? "lacks" : "lack"} {/^[aeiou]/.test(worst.key) ? "an" : "a"} {worst.key}
              </>
            ) : (
              <>{plural(all, "workload")}, each with the structural tags that apply to it</>
            )}
            {!!slips.data?.length && (
              <>
                ; <Link onClick={() => change({ show: "slips" })}>{n(slips.data.length)}</Link>{" "}
                {slips.data.length === 1 ? "value looks" : "values look"} misspelt
              </>
            )}
            .
          </Sentence>
          <Flex align="center" gap="8px" py="6px" wrap="wrap">
            <Switches
              label="what is shown"
              on={[mode]}
              toggle={(m) => change({ show: m === "list" ? null : m })}
              options={modes.map((m) => ({
                value: m,
                shown: (
                  <>
                    {names[m]}
                    {counted[m] ? (
                      <chakra.span color="open" fontWeight="500">
                        {" "}
                        {n(counted[m])}
                      </chakra.span>
                    ) : null}
                  </>
                ),
              }))}
            />
            {mode === "list" && (
              <>
                {tag.map((t) => (
                  <Chip key={t} onRemove={() => change({ tag: tag.filter((x) => x !== t) })}>
                    {t
                      .replace(`=${missing}`, " missing")
                      .replace(`=${notApplicable}`, " not applicable")
                      .replace("=", " is ")}
                  </Chip>
                ))}
                {filter.q && <Chip onRemove={() => change({ q: null })}>{filter.q}</Chip>}
                {guarded && <Chip onRemove={() => change({ guarded: null })}>{guardings[guarded]}</Chip>}
                {filter.retired && <Chip onRemove={() => change({ retired: null })}>retired</Chip>}
                <Text color="soft" data-count={list.data?.total}>
                  {list.data ? `${n(list.data.total)} of ${n(all)}` : "…"}
                </Text>
              </>
            )}
            <Flex ml="auto" gap="10px" align="center">
              {mode === "list" && (
                <>
                  <Selections list="workloads" keys={["q", "tag", "sort", "retired", "guarded"]} />
                  <Menu
                    label="More"
                    items={[
                      { shown: "Select a pasted list…", run: () => setPasting(true) },
                      {
                        shown: filter.retired ? "Show current workloads" : "Show retired workloads",
                        run: () => change({ retired: filter.retired ? null : "1" }),
                      },
                      { shown: "Export CSV", href: `/api/v1/workloads.csv?${exported}` },
                    ]}
                  />
                </>
              )}
              <Btn onClick={() => setSourcing(true)}>Sources…</Btn>
              <Btn onClick={() => setImporting(true)}>Import workloads…</Btn>
            </Flex>
          </Flex>
        </Box>
        {mode === "suggestions" && <Suggestions />}
        {mode === "slips" && <Slips />}
        {mode === "disagreements" && <Disagreements />}
        {list.error && <ProblemNote>{problem(list.error)}</ProblemNote>}
        {mode === "list" && list.data?.hint && (
          <Text px="20px" color="open" role="status">
            {list.data.hint}
          </Text>
        )}
        {mode === "list" && !list.error && <WorkloadTable filter={filter} editing={editing} setEditing={setEditing} />}
        {mode === "list" && countOf(editing) > 0 && (
          <TagDock
            key={`${editing.ids.join()}${editing.all?.count}${editing.key}`}
            editing={editing}
            onClose={() => setEditing({ ids: [] })}
          />
        )}
      </Flex>
    </Grid>
  );
  // The dialogs stay the same ones while the first import fills the page.
  return (
    <>
      {page}
      <ImportDialog kind="workloads" open={importing} onClose={() => setImporting(false)} />
      <SourcesDialog open={sourcing} onClose={() => setSourcing(false)} />
      <PasteDialog
        open={pasting}
        onClose={() => setPasting(false)}
        onFound={(ids) => {
          setPasting(false);
          setEditing({ ids });
        }}
      />
    </>
  );
}

function NoWorkloads({ onImport, onSources }: { onImport: () => void; onSources: () => void }) {
  return (
    <Box px="20px" pt="12px">
      <Sentence>No workloads yet.</Sentence>
      <Empty title="Start with a list">
        Import a CSV file with any headings, or JSON Lines. A file can also be dropped on any page.
        <Box mt="10px">
          <Btn primary onClick={onImport}>
            Import workloads…
          </Btn>{" "}
          <Btn onClick={onSources}>Let a script send a list, or restore an export…</Btn>
        </Box>
        <Box mt="16px">
          <LookAround />
        </Box>
      </Empty>
    </Box>
  );
}
