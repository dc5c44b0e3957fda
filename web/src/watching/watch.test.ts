import { describe, expect, it, test } from "vitest";
import {
  about,
  ago,
  became,
  headline,
  type Matter,
  memberOf,
  noticeFilter,
  stateWords,
  upTo,
  type Watch,
} from "./watch";

const sum = (held: number, leaks: number, chokes: number, unclear = 0, permitted = 1, over: object = {}) =>
  ({
    sum: { permitted, uncovered: 0, held, leaks, chokes, unclear },
    matters: [],
    inForce: 1,
    ...over,
  }) as unknown as Watch;

test("the headline says what was blocked and what was not", () => {
  expect(headline(sum(0, 0, 0), "day")).toEqual({
    time: "In the last day",
    tried: "nothing was blocked",
    through: "",
    calm: "; nothing leaked or choked",
  });
  expect(headline(sum(1, 0, 0), "hour").tried).toBe("1 attempt was blocked");
  expect(headline(sum(118, 3, 0), "day").through).toBe("3 got through");
  expect(headline(sum(118, 3, 1), "day").through).toBe("3 got through, and 1 permitted connection was dropped");
  expect(headline(sum(0, 2, 0, 4), "hour").through).toBe(
    "2 got through, and 4 are unclear, because a point changed in that hour",
  );
});

test("the headline reassures only by traffic that was judged", () => {
  expect(headline(sum(0, 0, 0, 0, 0), "week")).toEqual({
    time: "No traffic was received in the last week, so nothing can be judged",
    tried: "",
    through: "",
    calm: "",
  });
  expect(headline(sum(0, 0, 0, 0, 9, { inForce: 0 }), "day").calm).toBe("");
  const silent = { matters: [{ kind: "silent point" }, { kind: "silent exporter", ended: "2026-11-20T00:00:00Z" }] };
  expect(headline(sum(0, 0, 0, 0, 9, silent), "day").calm).toBe("; no leak was seen, but 1 source is silent");
});

test("how long ago something was", () => {
  const now = Date.parse("2026-11-28T12:00:00Z");
  expect(ago("2026-11-28T11:59:50Z", now)).toBe("just now");
  expect(ago("2026-11-28T11:20:00Z", now)).toBe("40 min ago");
  expect(ago("2026-11-28T02:00:00Z", now)).toBe("10 h ago");
  expect(ago("2026-11-27T08:00:00Z", now)).toBe("yesterday");
  expect(ago("2026-11-20T12:00:00Z", now)).toBe("8 days ago");
});

test("what became of connections is said where the kind does not say it", () => {
  const of = (kind: string, connections: number, carried: number, dropped: number) =>
    became({ kind, connections, carried, dropped } as Matter);
  expect(of("held", 6, 0, 6)).toBe("");
  expect(of("held", 6, 15, 6)).toBe("6 dropped, 15 carried");
  expect(of("leak", 7, 7, 0)).toBe("");
  expect(of("leak", 12, 18, 6)).toBe("6 dropped, 18 carried");
  expect(of("choke", 3, 0, 0)).toBe("");
});

test("what is over is said to be", () => {
  expect(stateWords({ state: "new", ended: "2026-11-20T12:00:00Z" } as Matter)).toBe("new, over");
  expect(stateWords({ state: "settled", note: "old job" } as Matter)).toBe("settled: old job");
});

test("a notice is a sentence", () => {
  expect(about({ kinds: ["leak"], what: memberOf("protected") }, "")).toBe("anything leaks into protected");
  expect(about({ kinds: [], who: "outside", what: "tier is store" }, "")).toBe(
    "anything from outside is the matter into tier is store",
  );
  expect(about({ kinds: ["drift", "ending"] }, "")).toBe("there is a drift or an ending");
  expect(about({ matter: "x" }, "a reached b")).toBe("“a reached b” happens again");
});

test("a notice of a filter is a sentence, too", () => {
  const of = (filter: string) => about({ filter }, "");
  expect(of("clients=outside&servers=member+of+store&verdict=permit")).toBe(
    "anything permitted from outside to store comes",
  );
  expect(of("odd=1&group=protected&turn=reaches")).toBe("anything leaked or choked from protected comes");
  expect(of("q=backup&services=tcp%2F22&bytes=1000")).toBe(
    "anything on tcp/22 with “backup” in a name of at least 1000 bytes comes",
  );
});

test("how a ledger is shown is not part of a notice", () => {
  expect(noticeFilter("show=all&by=app&turn=reaches&columns=env&q=a+b&against=3")).toBe("q=a+b");
  expect(noticeFilter("group=store&turn=reaches")).toBe("group=store&turn=reaches");
  expect(noticeFilter("path=a%7Cb%7C%7C&columns=site")).toBe("path=a%7Cb%7C%7C&columns=site");
  expect(noticeFilter("show=all")).toBe("");
  expect(noticeFilter("q=a&rule=7"), "without the line it would be wider").toBe("");
  expect(noticeFilter("q=a&against=3&was=permit")).toBe("");
});

describe("a long list of matters", () => {
  const list = Array.from({ length: 250 }, (_, i) => ({ id: `m${i}` }));
  it("is shown up to a number", () => {
    expect(upTo(list, 100, null)).toHaveLength(100);
    expect(upTo(list, 300, null)).toEqual(list);
    expect(upTo([], 100, "m1")).toEqual([]);
  });
  it("is shown as far as the one that is open", () => {
    expect(upTo(list, 100, "m5")).toHaveLength(100);
    expect(upTo(list, 100, "m180").at(-1)).toEqual({ id: "m180" });
    expect(upTo(list, 100, "gone")).toHaveLength(100);
  });
});
