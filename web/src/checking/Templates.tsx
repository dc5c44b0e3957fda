// The usual assertions in plain words: choose what they speak of, and the
// statement is written.
import { Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api } from "../api/client";
import { Btn, Select } from "../marks/Controls";
import { quote } from "../editor/quote";

/** A sentence with gaps: words, and what fills each gap. */
type Template = {
  name: string;
  gaps: ("key" | "group" | "service")[];
  sentence: (f: React.ReactNode[]) => React.ReactNode;
  text: (v: string[]) => string;
};

const templates: Template[] = [
  {
    name: "Keep environments apart",
    gaps: ["key"],
    sentence: ([k]) => <>Workloads with different {k} never reach each other</>,
    text: ([k]) => `assert never any -> any on any across ${k} "Kept apart"`,
  },
  {
    name: "Only these may reach this",
    gaps: ["group", "group", "service"],
    sentence: ([a, b, s]) => (
      <>
        Only {a} may reach {b} on {s}
      </>
    ),
    text: ([a, b, s]) => `assert only ${a} -> ${b} on ${s} "Only they may reach it"`,
  },
  {
    name: "These can always reach those",
    gaps: ["group", "group", "service"],
    sentence: ([a, b, s]) => (
      <>
        {a} can always reach {b} on {s}
      </>
    ),
    text: ([a, b, s]) => `assert always ${a} -> ${b} on ${s} "Must stay open"`,
  },
  {
    name: "Nothing but these leaves for outside",
    gaps: ["group", "service"],
    sentence: ([a, s]) => (
      <>
        Nothing but {a} leaves for outside on {s}
      </>
    ),
    text: ([a, s]) => `assert only ${a} -> outside on ${s} "Nothing else leaves"`,
  },
  {
    name: "These never reach those",
    gaps: ["group", "group", "service"],
    sentence: ([a, b, s]) => (
      <>
        {a} never reaches {b} on {s}
      </>
    ),
    text: ([a, b, s]) => `assert never ${a} -> ${b} on ${s}`,
  },
];

export function Templates({ choose }: { choose: (text: string) => void }) {
  const groups = api.useQuery("get", "/api/v1/groups");
  const facets = api.useQuery("get", "/api/v1/workloads/facets");
  const policy = api.useQuery("get", "/api/v1/policy");
  const [chosen, setChosen] = useState<Template>();
  const [values, setValues] = useState<string[]>([]);
  const names = (groups.data ?? []).map((g) => quote(g.name));
  const services = (policy.data?.statements ?? []).filter((s) => s.kind === "service").map((s) => quote(s.name!));
  const choices = {
    key: (facets.data ?? []).map((f) => quote(f.key)),
    group: ["any", ...names],
    service: ["any", ...services, "tcp/22", "tcp/443", "tcp/5432"],
  };
  const set = (t: Template, v: string[]) => {
    setChosen(t);
    setValues(v);
    if (v.every(Boolean)) choose(t.text(v));
  };
  const first = (t: Template) =>
    t.gaps.map((g) =>
      g === "key" ? (choices.key.includes("env") ? "env" : (choices.key[0] ?? "")) : g === "service" ? "any" : "",
    );
  return (
    <>
      <Flex gap="6px" wrap="wrap" mb="6px" align="center">
        <Text color="soft">In plain words:</Text>
        {templates.map((t) => (
          <Btn
            key={t.name}
            aria-pressed={t === chosen}
            borderColor={t === chosen ? "accent" : "line"}
            onClick={() => set(t, first(t))}
          >
            {t.name}
          </Btn>
        ))}
      </Flex>
      {chosen && (
        <Flex mb="8px" align="baseline" gap="4px" wrap="wrap" data-template>
          {chosen.sentence(
            chosen.gaps.map((g, i) => (
              <Select
                key={i}
                aria-label={`${g} ${i + 1}`}
                value={values[i]}
                onChange={(e) =>
                  set(
                    chosen,
                    values.map((v, k) => (k === i ? e.target.value : v)),
                  )
                }
                borderColor={values[i] ? "line" : "open"}
                h="25px"
                mx="3px"
              >
                <option value="">
                  {g === "group" ? "which group?" : g === "key" ? "which tag?" : "which service?"}
                </option>
                {choices[g].map((c) => (
                  <option key={c} value={c}>
                    {c}
                  </option>
                ))}
              </Select>
            )),
          )}
        </Flex>
      )}
    </>
  );
}
