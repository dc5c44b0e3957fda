// Workloads: what is there, and what is not known of it?
import { Box, chakra, Flex, Grid, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem } from "../api/client";
import { useAddress } from "../frame/address";
import { ImportDialog } from "../importing/ImportDialog";
import { Btn, Chip, Empty, Link, ProblemNote, Sentence } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { Facets, missing } from "./Facets";
import { TagDock } from "./TagDock";
import { WorkloadTable } from "./WorkloadTable";

export type Editing = { ids: string[]; key?: string; value?: string };

export function WorkloadsView() {
  const { search, change } = useAddress();
  const [importing, setImporting] = useState(false);
  const [editing, setEditing] = useState<Editing>({ ids: [] });
  const filter = { q: search.get("q") ?? undefined, tag: search.getAll("tag") };
  const list = api.useQuery("get", "/api/workloads", { params: { query: { ...filter, limit: 1 } } });
  const facets = api.useQuery("get", "/api/workloads/facets", { params: { query: {} } });
  const worst = facets.data?.filter((f) => f.structural).sort((a, b) => b.missing - a.missing)[0];
  const slips = facets.data?.filter((f) => f.structural).flatMap((f) => f.values.filter((v) => v.like)) ?? [];
  const all = list.data?.all ?? 0;
  const exported = new URLSearchParams();
  if (filter.q) exported.set("q", filter.q);
  filter.tag.forEach((t) => exported.append("tag", t));
  if (list.error) return <ProblemNote>{problem(list.error)}</ProblemNote>;
  const none = list.data && all === 0;
  const page = none ? (
    <NoWorkloads onImport={() => setImporting(true)} />
  ) : (
    <Grid templateColumns="250px minmax(0,1fr)" h="100%">
      <Facets filter={filter} onMend={setEditing} />
      <Flex direction="column" minH="0" pt="12px">
        <Box px="20px">
          <Sentence>
            {worst && worst.missing > 0 ? (
              <>
                <Link onClick={() => change({ tag: [`${worst.key}=${missing}`] })}>{plural(worst.missing, "workload")}</Link> {worst.missing === 1 ? "lacks" : "lack"} {/^[aeiou]/.test(worst.key) ? "an" : "a"} {worst.key}
              </>
            ) : (
              <>{plural(all, "workload")}, each with its structural tags</>
            )}
            {slips.length > 0 && (
              <>
                ; {n(slips.length)} {slips.length === 1 ? "value looks" : "values look"} misspelt
              </>
            )}
            .
          </Sentence>
          <Flex align="center" gap="8px" py="6px" wrap="wrap">
            {filter.tag.map((t) => (
              <Chip key={t} onRemove={() => change({ tag: filter.tag.filter((x) => x !== t) })}>
                {t.replace(`=${missing}`, " missing").replace("=", " is ")}
              </Chip>
            ))}
            {filter.q && <Chip onRemove={() => change({ q: null })}>{filter.q}</Chip>}
            <Text color="soft" data-count={list.data?.total}>
              {list.data ? `${n(list.data.total)} of ${n(all)}` : "…"}
            </Text>
            <Flex ml="auto" gap="14px" align="center">
              <chakra.a href={`/api/workloads.csv?${exported}`} download color="soft" textDecoration="underline" textDecorationColor="line" textUnderlineOffset="3px">
                Export CSV
              </chakra.a>
              <Btn onClick={() => setImporting(true)}>Import workloads…</Btn>
            </Flex>
          </Flex>
        </Box>
        <WorkloadTable filter={filter} editing={editing} setEditing={setEditing} />
        {editing.ids.length > 0 && <TagDock key={`${editing.ids.join()}${editing.key}`} editing={editing} onClose={() => setEditing({ ids: [] })} />}
      </Flex>
    </Grid>
  );
  // The dialog stays the same one while the first import fills the page.
  return (
    <>
      {page}
      <ImportDialog kind="workloads" open={importing} onClose={() => setImporting(false)} />
    </>
  );
}

function NoWorkloads({ onImport }: { onImport: () => void }) {
  return (
    <Box px="20px" pt="12px">
      <Sentence>No workloads are known yet.</Sentence>
      <Empty title="Start with a list">
        Import a CSV file with a column id, and addresses, name and tag:KEY as you have them; or start the program with --demo to look around in a made-up company.
        <Box mt="10px">
          <Btn primary onClick={onImport}>
            Import workloads…
          </Btn>
        </Box>
      </Empty>
    </Box>
  );
}
