// The sentence that says what matters most now, each number a way to it.
import type { Schemas } from "../api/client";
import { api } from "../api/client";
import { useAddress } from "../frame/address";
import type { LedgerQuery } from "../ledger/shared";
import { Link, Sentence } from "../marks/Controls";
import { n, plural } from "../marks/words";
import { type Against, called } from "./against";

type Props = { c: Schemas["CheckOut"]; query: LedgerQuery; against: Against };

export function Chosen({ c, query, against }: Props) {
  const { change } = useAddress();
  const asserts = api.useQuery("get", "/api/v1/assertions");
  const shut = asserts.data?.filter((a) => a.kind === "always" && a.result === "broken") ?? [];
  const seen = (more: Parameters<typeof change>[0]) =>
    change({ part: null, was: null, odd: null, outcome: null, asking: null, rule: null, verdict: null, ...more });
  const running = c.outcomes.reject?.carried ?? 0; // that the draft rejects
  const all = c.counts.permit + c.counts.reject + c.counts.uncovered;
  const name = query.for?.replace(/^[^:]*:/, "");
  // A selection is answered for, and says that it is one.
  const lead = name ? `For ${name}: ` : all < c.conversations ? `Of ${plural(all, "selected conversation")}: ` : "";
  const draft = lead ? "the draft" : "The draft";
  return (
    <Sentence>
      {lead}
      {shut.length > 0 && (
        <>
          {draft} shuts{" "}
          <Link color="reject" onClick={() => change({ part: "assertions" })}>
            {plural(shut.length, "path")} that must always be open
          </Link>
          .{" "}
        </>
      )}
      {c.asking > 0 ? (
        <>
          {draft} would reject{" "}
          <Link
            data-asking={c.asking}
            onClick={() => seen({ verdict: ["reject"], outcome: "carried", asking: "true" })}
          >
            {plural(c.asking, "conversation")}
          </Link>{" "}
          carried in the window
          {running > c.asking && <>, besides {n(running - c.asking)} rightly rejected according to a probe,</>} and
          leaves{" "}
        </>
      ) : running > 0 ? (
        <>{draft} rejects only what is rightly rejected, and leaves </>
      ) : (
        <>{draft} rejects nothing that was carried in the window and leaves </>
      )}
      <Link data-uncovered={c.counts.uncovered} onClick={() => seen({ verdict: ["uncovered"] })}>
        {c.counts.uncovered === 0 ? "nothing" : n(c.counts.uncovered)}
      </Link>{" "}
      uncovered
      {c.liveStores > 0 && (
        <>
          ;{" "}
          <Link onClick={() => seen({ verdict: ["uncovered"], servers: "tier is store and env is live" })}>
            {n(c.liveStores)}
          </Link>{" "}
          of those {c.liveStores === 1 ? "reaches" : "reach"} live stores
        </>
      )}
      {!!c.difference && !!query.against && c.difference.changed > 0 && (
        <>
          ; against {called(against)},{" "}
          {plural(
            (c.difference.counts.permit?.reject ?? 0) + (c.difference.counts.permit?.uncovered ?? 0),
            "conversation",
          )}{" "}
          would lose their permit
        </>
      )}
      .
    </Sentence>
  );
}
