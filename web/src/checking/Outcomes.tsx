// Verdict × outcome: where the two disagree is a leak or a choke; once something was
// released, what the points held says which are.
import { chakra } from "@chakra-ui/react";
import type { Schemas } from "../api/client";
import { useAddress } from "../frame/address";
import { Link } from "../marks/Controls";
import { Mark, type Verdict, VerdictHeads } from "../marks/Marks";
import { n, plural } from "../marks/words";

export function Outcomes({ c }: { c: Schemas["CheckOut"] }) {
  const { change } = useAddress();
  const verdicts: Verdict[] = ["permit", "reject", "uncovered"];
  const outcomes = [
    ["carried", "carried"],
    ["dropped", "dropped"],
    ["unknown", "unknown"],
  ] as const;
  const cell = { px: "10px", py: "3px", textAlign: "right", borderBottomWidth: "1px", borderColor: "line2" } as const;
  return (
    <chakra.table
      fontSize="12.5px"
      aria-label="verdict and outcome"
      data-outcomes
      alignSelf="flex-start"
      flexShrink={0}
    >
      <thead>
        <tr>
          <td />
          <VerdictHeads {...cell} />
        </tr>
      </thead>
      <tbody>
        {outcomes.map(([o, shown]) => (
          <tr key={o}>
            <chakra.td {...cell} textAlign="left" color="soft" pl="0">
              {shown}
            </chakra.td>
            {verdicts.map((v) => {
              const odd = c.held
                ? undefined
                : v === "reject" && o === "carried"
                  ? "leak"
                  : v === "permit" && o === "dropped"
                    ? "choke"
                    : undefined;
              const value = c.outcomes[v]?.[o] ?? 0;
              return (
                <chakra.td key={v} {...cell} data-column={v}>
                  {value === 0 ? (
                    <chakra.span color="soft">0</chakra.span>
                  ) : odd ? (
                    <Link
                      fontWeight="600"
                      color={odd === "leak" ? "reject" : "permit"}
                      onClick={() => change({ odd: "1", verdict: [v], outcome: null })}
                      title={odd === "leak" ? "rejected, yet carried" : "permitted, yet dropped"}
                    >
                      <Mark kind={odd} /> {plural(value, odd)}
                    </Link>
                  ) : (
                    <Link onClick={() => change({ odd: null, verdict: [v], outcome: o })}>{n(value)}</Link>
                  )}
                </chakra.td>
              );
            })}
          </tr>
        ))}
      </tbody>
      {c.held && (
        <tfoot>
          <tr>
            <chakra.td colSpan={4} pt="3px" color="soft" data-held-leaks={c.leaks} data-held-chokes={c.chokes}>
              judged by what the points ran:{" "}
              {(["leak", "choke"] as const).map((kind, i) => {
                const count = kind === "leak" ? c.leaks : c.chokes;
                return (
                  <chakra.span key={kind}>
                    {i > 0 && ", "}
                    {count === 0 ? (
                      plural(0, kind)
                    ) : (
                      <Link
                        fontWeight="600"
                        color={kind === "leak" ? "reject" : "permit"}
                        onClick={() => change({ odd: "1", verdict: null, outcome: null })}
                        title={kind === "leak" ? "a point should have dropped it" : "permitted, yet dropped"}
                      >
                        <Mark kind={kind} /> {plural(count, kind)}
                      </Link>
                    )}
                  </chakra.span>
                );
              })}
            </chakra.td>
          </tr>
        </tfoot>
      )}
    </chakra.table>
  );
}
