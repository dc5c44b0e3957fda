// The draft against another revision: what each conversation got then, and gets
// now. Each cell is a filter.
import { chakra, Flex, Text } from "@chakra-ui/react";
import { api, type Schemas } from "../api/client";
import { useAddress, useWindow } from "../frame/address";
import { Link, Select } from "../marks/Controls";
import { Mark, type Verdict, VerdictHeads } from "../marks/Marks";
import { atMinute, n, plural } from "../marks/words";
import { type Against, alone } from "./against";

const verdicts: Verdict[] = ["permit", "reject", "uncovered"];
const cell = { px: "10px", py: "3px", textAlign: "right", borderBottomWidth: "1px", borderColor: "line2" } as const;

/** The choice of the revision to compare with. */
type Props = { head: number; against: Against; changed?: number };

export function CompareWith({ head, against: a, changed }: Props) {
  const { change } = useAddress();
  const w = useWindow();
  const { data: r } = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const { data } = api.useQuery("get", "/api/v1/policy/revisions", { params: { query: { limit: 200 } } });
  const against = a.revision ? String(a.revision) : alone;
  const choose = (v: string) => change(v === alone ? { against: alone, was: null } : { against: v });
  const released = r?.releases.filter((x) => x.revision !== head) ?? [];
  return (
    <Flex gap="6px" align="center" color="soft">
      <label htmlFor="against">Against</label>
      <Select
        id="against"
        value={against}
        onChange={(e) => choose(e.target.value)}
        w="140px"
        title="another revision of the policy to compare the draft with"
      >
        <option value={alone}>no other revision</option>
        {released.map((x) => (
          <option key={`release ${x.no}`} value={x.revision}>
            release {x.no}
            {x.no === r?.inForce ? ", in force" : ""} · {x.title}
          </option>
        ))}
        {data
          ?.filter((r) => r.no !== head && !released.some((x) => x.revision === r.no))
          .map((r) => (
            <option key={r.no} value={r.no}>
              {r.no} · {atMinute(r.at)} · {r.words}
            </option>
          ))}
      </Select>
      {changed !== undefined && (
        <Text flexShrink={0}>{changed === 0 ? "no change" : `${plural(changed, "change")}`}</Text>
      )}
    </Flex>
  );
}

export function Difference({ d, called }: { d: NonNullable<Schemas["CheckOut"]["difference"]>; called: string }) {
  const { search, change } = useAddress();
  const on = (was: Verdict, is: Verdict) =>
    search.getAll("was").join() === was && search.getAll("verdict").join() === is;
  const pick = (was: Verdict, is: Verdict) =>
    change(on(was, is) ? { was: null, verdict: null } : { was: [was], verdict: [is] });
  return (
    <chakra.table
      fontSize="12.5px"
      aria-label="before and now"
      data-changed={d.changed}
      alignSelf="flex-start"
      flexShrink={0}
    >
      <thead>
        <tr>
          <chakra.th textAlign="left" fontWeight="500" color="soft" pr="10px">
            {called} ↓ now →
          </chakra.th>
          <VerdictHeads {...cell} />
        </tr>
      </thead>
      <tbody>
        {verdicts.map((was) => (
          <tr key={was}>
            <chakra.td {...cell} textAlign="left" color="soft">
              <Mark kind={was} size={9} /> {was}
            </chakra.td>
            {verdicts.map((is) => {
              const value = d.counts[was]?.[is] ?? 0;
              return (
                <chakra.td key={is} {...cell} bg={on(was, is) ? "tintStrong" : undefined}>
                  {value === 0 ? (
                    <chakra.span color="soft">0</chakra.span>
                  ) : (
                    <Link
                      aria-pressed={on(was, is)}
                      fontWeight={was === is ? "400" : "600"}
                      onClick={() => pick(was, is)}
                      data-cell={`${was}-${is}`}
                    >
                      {n(value)}
                    </Link>
                  )}
                </chakra.td>
              );
            })}
          </tr>
        ))}
      </tbody>
    </chakra.table>
  );
}
