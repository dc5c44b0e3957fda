// For each tag a stack of its values, missing first.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, fetchClient, problem, caughtUp, type Schemas } from "../api/client";
import { NotApplicableDialog } from "./NotApplicable";
import { useAddress } from "../frame/address";
import { say } from "../frame/toaster";
import { Link, Typed } from "../marks/Controls";
import { n } from "../marks/words";
import type { Editing } from "./editing";

export const missing = "(missing)";
export const notApplicable = "(not applicable)";
type Filter = { q?: string; tag: string[] };

export function Facets({ filter, onMend }: { filter: Filter; onMend: (e: Editing) => void }) {
  const { change } = useAddress();
  const { data } = api.useQuery("get", "/api/v1/workloads/facets", { params: { query: filter } });
  const toggle = (t: string) =>
    change({ tag: filter.tag.includes(t) ? filter.tag.filter((x) => x !== t) : [...filter.tag, t] });
  const mend = async (key: string, value: string, like: string) => {
    const f = { tag: [`${key}=${value}`] };
    const found = await fetchClient.GET("/api/v1/workloads", { params: { query: { ...f, limit: 1 } } });
    onMend({ ids: [], all: { filter: f, count: found.data?.total ?? 0 }, key, value: like });
  };
  const [limiting, setLimiting] = useState<Schemas["Facet"]>();
  const keys = api.useMutation("put", "/api/v1/vocabulary/structural");
  const choose = async (key: string) => {
    const now = data?.filter((f) => f.structural).map((f) => f.key) ?? [];
    try {
      await keys.mutateAsync({ body: { keys: now.includes(key) ? now.filter((k) => k !== key) : [...now, key] } });
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <Box borderRightWidth="1px" borderColor="line" overflowY="auto" px="20px" py="12px">
      <Typed
        fontFamily="mono"
        fontSize="12px"
        placeholder="words, or app is booking"
        aria-label="filter workloads by words or an expression"
        value={filter.q ?? ""}
        set={(q) => change({ q })}
      />
      {data?.map((f) => (
        <Facet
          key={f.key}
          facet={f}
          on={filter.tag}
          toggle={toggle}
          mend={mend}
          structural={(key) => void choose(key)}
          limit={() => setLimiting(f)}
        />
      ))}
      {limiting && (
        <NotApplicableDialog
          facet={limiting}
          first={filter.q}
          // Nothing is missing there any more.
          onSaved={() => change({ tag: filter.tag.filter((t) => t !== `${limiting.key}=${missing}`) })}
          onClose={() => setLimiting(undefined)}
        />
      )}
    </Box>
  );
}

function Facet({
  facet: f,
  on,
  toggle,
  mend,
  structural,
  limit,
}: {
  structural: (key: string) => void;
  limit: () => void;
  facet: Schemas["Facet"];
  on: string[];
  toggle: (t: string) => void;
  mend: (key: string, value: string, like: string) => Promise<void>;
}) {
  const [all, setAll] = useState(false);
  const top = Math.max(1, f.missing, f.notApplicable, ...f.values.map((v) => v.count));
  const odd = f.values.filter((v) => v.like);
  const usual = f.values.filter((v) => !v.like);
  const shown = all ? usual : usual.slice(0, 8);
  return (
    <Box mt="12px" role="group" aria-label={f.key}>
      <Flex align="baseline" gap="6px">
        <Text fontFamily="heading" fontSize="14px" fontWeight="500">
          {f.key}
        </Text>
        <chakra.button
          type="button"
          ml="auto"
          fontSize="11px"
          color={f.structural ? "soft" : "line"}
          cursor="pointer"
          _hover={{ color: "ink" }}
          aria-pressed={f.structural}
          aria-label={`${f.structural ? "structural" : "make structural"}: ${f.key} tells where a workload belongs`}
          title={
            f.structural
              ? "structural: it tells where a workload belongs, and missing values are reported. Press to turn this off"
              : "press to make it structural: it tells where a workload belongs"
          }
          onClick={() => structural(f.key)}
        >
          {f.structural ? "structural" : "make structural"}
        </chakra.button>
      </Flex>
      {f.missing > 0 && (
        <Value
          name={missing}
          count={f.missing}
          share={f.missing / top}
          on={on.includes(`${f.key}=${missing}`)}
          toggle={() => toggle(`${f.key}=${missing}`)}
          open
        />
      )}
      {f.notApplicable > 0 && (
        <Value
          name="not applicable"
          count={f.notApplicable}
          share={f.notApplicable / top}
          on={on.includes(`${f.key}=${notApplicable}`)}
          toggle={() => toggle(`${f.key}=${notApplicable}`)}
        />
      )}
      {f.structural && (f.notApplicableTo || on.includes(`${f.key}=${missing}`)) && (
        <Link color="soft" fontSize="11.5px" onClick={limit}>
          {f.notApplicableTo ? `not applicable to ${f.notApplicableTo}…` : "not applicable to some…"}
        </Link>
      )}
      {odd.map((v) => (
        <Flex key={v.value} align="baseline" gap="6px">
          <Box flex="1">
            <Value
              name={v.value.replaceAll(" ", "␣")}
              count={v.count}
              share={0}
              on={on.includes(`${f.key}=${v.value}`)}
              toggle={() => toggle(`${f.key}=${v.value}`)}
            />
          </Box>
          <Link fontSize="11.5px" color="open" onClick={() => void mend(f.key, v.value, v.like!)}>
            same as {v.like}?
          </Link>
        </Flex>
      ))}
      {shown.map((v) => (
        <Value
          key={v.value}
          name={v.value}
          count={v.count}
          share={v.count / top}
          on={on.includes(`${f.key}=${v.value}`)}
          toggle={() => toggle(`${f.key}=${v.value}`)}
        />
      ))}
      {usual.length > 8 && (
        <Link color="soft" fontSize="11.5px" onClick={() => setAll(!all)}>
          {all ? "fewer" : `${usual.length - 8} more`}
        </Link>
      )}
    </Box>
  );
}

function Value({
  name,
  count,
  share,
  on,
  toggle,
  open,
}: {
  name: string;
  count: number;
  share: number;
  on: boolean;
  toggle: () => void;
  open?: boolean;
}) {
  return (
    <chakra.button
      type="button"
      aria-pressed={on}
      onClick={toggle}
      display="flex"
      alignItems="center"
      gap="8px"
      w="calc(100% + 12px)"
      mx="-6px"
      px="6px"
      py="1px"
      cursor="pointer"
      borderRadius="3px"
      bg={on ? "tintStrong" : undefined}
      _hover={{ bg: "tint" }}
      color={open ? "open" : undefined}
      fontWeight={on || open ? "500" : undefined}
    >
      <Text truncate>{open ? "missing" : name}</Text>
      <Box h="6px" w={`${Math.max(2, share * 70)}px`} bg={open ? "open" : "volumeFaint"} flexShrink={0} />
      <Text ml="auto" color={open ? "open" : "soft"}>
        {n(count)}
      </Text>
    </chakra.button>
  );
}
