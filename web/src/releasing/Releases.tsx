// The releases, newest first, with what the draft would change; each opens what it has.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { Link } from "../marks/Controls";
import { Mark, type Verdict } from "../marks/Marks";
import { n, onDay, plural } from "../marks/words";
import { CompareReleases } from "./CompareReleases";
import { Jobs } from "./Jobs";
import type { RollOut } from "./waves";

const verdicts: Verdict[] = ["permit", "reject", "uncovered"];

/** What changes verdict between the draft and a revision. */
export function Changes({ revision }: { revision: number }) {
  const w = useWindow();
  const { data } = api.useQuery("get", "/api/v1/check", { params: { query: { ...w, against: revision } } });
  const d = data?.difference;
  if (!d) return null;
  const pairs = verdicts.flatMap((was) =>
    verdicts
      .filter((is) => was !== is && (d.counts[was]?.[is] ?? 0) > 0)
      .map((is) => ({ was, is, count: d.counts[was]![is] })),
  );
  return (
    <Flex gap="10px" wrap="wrap" data-changed={d.changed} fontSize="12px">
      {pairs.length === 0 && <Text color="soft">no conversation changes its verdict</Text>}
      {pairs.map((p) => (
        <Text key={p.was + p.is} title={`${p.was}, then ${p.is}`}>
          <Mark kind={p.was} size={9} />→<Mark kind={p.is} size={9} /> {n(p.count)}
        </Text>
      ))}
    </Flex>
  );
}

export function Releases({ r }: { r: RollOut }) {
  const { search, change } = useAddress();
  const navigate = useNavigate();
  const carried = useCarried();
  const w = useWindow();
  const { data: s } = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const [marked, setMarked] = useState<number>();
  const [jobs, setJobs] = useState(false);
  const compared = /^(\d+)-(\d+)$/.exec(search.get("compare") ?? "");
  const newest = r.releases[0];
  const differs = newest && s && !newest.same;
  return (
    <Box
      as="aside"
      aria-label="releases"
      borderLeftWidth={{ base: 0, md: "1px" }}
      borderColor="line"
      bg="sheet"
      overflowY="auto"
      py="12px"
    >
      <Text as="h2" fontFamily="heading" fontSize="16px" px="16px" mb="6px">
        Releases
      </Text>
      <Row mark="d">
        <Text fontWeight="600">Draft</Text>
        <Text color="soft" fontSize="12px">
          {newest
            ? differs
              ? `differs from release ${newest.no}`
              : `equals release ${newest.no}`
            : "not released yet"}
        </Text>
        {differs && <Changes revision={newest.revision} />}
        {(differs || !newest) && (
          <Link mt="2px" onClick={() => change({ release: "new" })}>
            Release…
          </Link>
        )}
      </Row>
      {r.releases.map((x) => (
        <Row key={x.no} mark={String(x.no)} on={x.no === r.inForce}>
          <Text fontWeight="600">{x.title}</Text>
          <Text color="soft" fontSize="12px" data-release={x.no}>
            {onDay(x.at)} · {x.author} · {where(x)}
            {x.no === r.inForce && " · in force"}
          </Text>
          <Flex gap="10px">
            {s && !x.same && (
              <Link
                fontSize="12px"
                color="soft"
                onClick={() => void navigate(`/check${carried}${carried ? "&" : "?"}against=${x.revision}`)}
              >
                compare with the draft
              </Link>
            )}
            {r.releases.length > 1 && (
              <Link
                fontSize="12px"
                color="soft"
                data-compare={x.no}
                onClick={() => {
                  if (marked === undefined) setMarked(x.no);
                  else {
                    change({ compare: `${Math.min(marked, x.no)}-${Math.max(marked, x.no)}` });
                    setMarked(undefined);
                  }
                }}
                aria-pressed={marked === x.no}
              >
                {marked === undefined ? "with another" : marked === x.no ? "with which?" : `with release ${marked}`}
              </Link>
            )}
          </Flex>
        </Row>
      ))}
      <Box px="16px" py="10px">
        <Link color="soft" fontSize="12px" onClick={() => setJobs(true)}>
          Release from a job…
        </Link>
      </Box>
      {jobs && <Jobs close={() => setJobs(false)} />}
      {compared && (
        <CompareReleases
          older={Number(compared[1])}
          newer={Number(compared[2])}
          close={() => change({ compare: null })}
        />
      )}
    </Box>
  );
}

/** Where a release runs: "enforced at 2 points, observed at 1". */
function where(x: { enforced: number; observed: number }): string {
  const parts = [x.enforced && `enforced at ${plural(x.enforced, "point")}`, x.observed && `observed at ${x.observed}`];
  return parts.filter(Boolean).join(", ") || "runs nowhere";
}

function Row({ mark, on, children }: { mark: string; on?: boolean; children: React.ReactNode }) {
  return (
    <Flex gap="14px" px="16px" py="8px" borderBottomWidth="1px" borderColor="line2" bg={on ? "tint" : undefined}>
      <chakra.span fontFamily="heading" fontSize="17px" w="16px" textAlign="right">
        {mark}
      </chakra.span>
      <Flex direction="column" gap="2px" minW="0" flex="1" align="flex-start">
        {children}
      </Flex>
    </Flex>
  );
}
