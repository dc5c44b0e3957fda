import { Box, chakra, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, type Schemas } from "../api/client";
import { useWindow } from "../frame/address";
import { Chip } from "../marks/Controls";
import { Mark, Spark, VerdictBar } from "../marks/Marks";
import { atMinute, bytes, n, plural, utc } from "../marks/words";
import { CallerRow } from "./CallerRow";
import { useUnfolded } from "./columns";
import { Name } from "./Name";
import { RowFrame } from "./RowFrame";
import { useSelecting, useSettling } from "./Settle";
import { targetOf } from "./settling";
import type { LedgerQuery } from "./shared";

type Row = Schemas["LedgerRow"];

/** A served thing and its service. */
export function ServedRow({ row, query }: { row: Row; query: LedgerQuery }) {
  const [open, toggle] = useUnfolded(`${row.key}~${row.service}`);
  const turned = query.turn === "reaches";
  const target = targetOf(row, turned);
  const actions = useSettling(target);
  const select = useSelecting(target);
  return (
    <Box>
      <RowFrame
        depth={0}
        name={`${row.label} on ${row.service}`}
        open={open}
        more={{
          connections: n(row.connections),
          bytes: bytes(row.bytes),
          first: <span title={utc(row.first)}>{atMinute(row.first)}</span>,
          last: <span title={utc(row.last)}>{atMinute(row.last)}</span>,
          rules: row.rules.join(", "),
        }}
        toggle={toggle}
        actions={actions}
        select={select}
        cells={[
          <Name key="n" row={row} strong />,
          <ServiceName key="s" row={row} />,
          n(row.conversations),
          <span key="v">
            <VerdictBar counts={row.counts} width={row.changed > 0 ? 70 : 108} />
            {row.changed > 0 && (
              <chakra.span
                ml="5px"
                title={`${plural(row.changed, "conversation")} with another verdict than in the compared revision`}
                fontWeight="600"
              >
                Δ{n(row.changed)}
              </chakra.span>
            )}
            {row.leaks > 0 && (
              <chakra.span ml="5px" title={plural(row.leaks, "leak") + ": rejected, yet carried"}>
                <Mark kind="leak" />
              </chakra.span>
            )}
            {row.chokes > 0 && (
              <chakra.span ml="5px" title={plural(row.chokes, "choke") + ": permitted, yet dropped"}>
                <Mark kind="choke" />
              </chakra.span>
            )}
          </span>,
          <Others key="o" row={row} />,
          <Spark key="w" values={row.spark} />,
        ]}
      />
      {open && <Callers row={row} query={query} />}
    </Box>
  );
}

function ServiceName({ row }: { row: Row }) {
  return (
    <chakra.span fontFamily="mono" fontSize="12px">
      {row.service}
      {row.serviceName && <chakra.span color="soft"> {row.serviceName}</chakra.span>}
    </chakra.span>
  );
}

/** The callers, most undecided first: those with something undecided stand out. */
function Others({ row }: { row: Row }) {
  const open = row.others.filter((o) => o.counts.uncovered > 0).slice(0, 2);
  const rest = row.others.filter((o) => !open.includes(o));
  const more = row.otherCount - row.others.length;
  return (
    <>
      {open.map((o) => (
        <chakra.span key={o.label} mr="6px">
          <Chip>
            {o.label} <Mark kind="uncovered" size={9} />{" "}
            <chakra.span color="open" fontWeight="500">
              {n(o.counts.uncovered)}
            </chakra.span>
          </Chip>
        </chakra.span>
      ))}
      <chakra.span color="soft">
        {rest.map((o) => o.label).join(", ")}
        {more > 0 && ` and ${n(more)} more`}
      </chakra.span>
    </>
  );
}

function Callers({ row, query }: { row: Row; query: LedgerQuery }) {
  const w = useWindow();
  const [limit, setLimit] = useState(50);
  const { data } = api.useQuery("get", "/api/v1/ledger/callers", {
    params: { query: { ...w, ...query, near: row.key, service: row.service, limit } },
  });
  if (!data)
    return (
      <Text pl="48px" color="soft">
        …
      </Text>
    );
  return (
    <Box role="rowgroup">
      {data.rows.map((c) => (
        <CallerRow key={c.key} row={c} near={row.key} nearName={row.label} query={query} />
      ))}
      {data.total > data.rows.length && (
        <chakra.button
          type="button"
          pl="48px"
          py="4px"
          color="soft"
          textDecoration="underline"
          onClick={() => setLimit(limit + 200)}
        >
          {n(data.total - data.rows.length)} more
        </chakra.button>
      )}
    </Box>
  );
}
