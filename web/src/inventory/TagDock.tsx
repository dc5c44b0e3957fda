// Setting a tag on what is selected: first what it would do, then doing it.
import { Box, Flex, Text } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { api, problem, caughtUp } from "../api/client";
import { ConsequencesList } from "../consequences/ConsequencesList";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Entry, ProblemNote } from "../marks/Controls";
import { plural } from "../marks/words";
import { chosen, countOf, type Editing } from "./editing";

export function TagDock({ editing, onClose }: { editing: Editing; onClose: () => void }) {
  const w = useWindow();
  const facets = api.useQuery("get", "/api/v1/workloads/facets", { params: { query: {} } });
  const [key, setKey] = useState(editing.key ?? "tier");
  const [value, setValue] = useState(editing.value ?? "");
  // Nothing typed is not yet a wish to clear the tag of thousands.
  const [clearing, setClearing] = useState(false);
  const wanted = value !== "" || clearing;
  const [asked, setAsked] = useState({ key: "", value: "" });
  const [wrong, setWrong] = useState<string>();
  const [only] = editing.ids.length === 1 ? editing.ids : [];
  const one = api.useQuery(
    "get",
    "/api/v1/workloads/{id}",
    { params: { path: { id: only ?? "" } } },
    { enabled: !!only },
  );
  const set = api.useMutation("post", "/api/v1/tags");
  const preview = api.useMutation("post", "/api/v1/tags");
  const input = useRef<HTMLInputElement>(null);
  const values = facets.data?.find((f) => f.key === key)?.values.filter((v) => !v.like) ?? [];
  const { mutate: look } = preview;
  useEffect(() => {
    input.current?.focus();
    input.current?.select();
  }, []);
  // Typing asks after a moment's rest; what is shown always says for which value.
  useEffect(() => {
    const t = setTimeout(() => {
      if (!key.trim() || !wanted) return;
      setAsked({ key, value });
      look({ params: { query: { ...w, dryRun: true } }, body: { ...chosen(editing), key: key.trim(), value } });
    }, 40);
    return () => clearTimeout(t);
  }, [key, value, wanted, editing, w, look]);
  const save = async () => {
    setWrong(undefined);
    try {
      await set.mutateAsync({
        params: { query: w },
        body: { ...chosen(editing), key: key.trim(), value, was: editing.was },
      });
      say(value ? `Set ${key} = ${value} on ${plural(countOf(editing), "workload")}` : `Cleared ${key}`);
      await caughtUp();
      onClose();
    } catch (e) {
      setWrong(problem(e));
    }
  };
  const current = wanted && asked.key === key && asked.value === value && preview.data;
  return (
    <Box
      borderTopWidth="2px"
      borderColor="accent"
      bg="sheet"
      px="20px"
      py="10px"
      maxH="220px"
      overflowY="auto"
      flexShrink={0}
      role="region"
      aria-label="set a tag"
      onKeyDown={(e) => e.key === "Escape" && onClose()}
    >
      <Flex gap="36px" align="flex-start">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            if (wanted) void save();
          }}
        >
          <Text fontFamily="heading" fontSize="15px" mb="5px">
            {only ? (one.data?.name ?? only) : `${plural(countOf(editing), "workload")} selected`}
          </Text>
          <Flex gap="6px" align="center" mb="7px">
            <Entry w="92px" aria-label="tag" list="tag-keys" value={key} set={setKey} />
            =
            <Entry
              ref={input}
              w="130px"
              aria-label="value"
              list="tag-values"
              placeholder="value"
              value={value}
              set={(v) => {
                setValue(v);
                setClearing(false);
              }}
            />
            <datalist id="tag-keys">
              {facets.data?.map((f) => (
                <option key={f.key} value={f.key} />
              ))}
            </datalist>
            <datalist id="tag-values">
              {values.map((v) => (
                <option key={v.value} value={v.value} />
              ))}
            </datalist>
          </Flex>
          <Flex gap="6px">
            {wanted ? (
              // Another key: else the press that asks what clearing does would clear.
              <Btn key="set" primary type="submit" loading={set.isPending} disabled={!key.trim()}>
                {value ? `Set ${key} = ${value}` : `Clear ${key}`}
              </Btn>
            ) : (
              <Btn key="ask" onClick={() => setClearing(true)} disabled={!key.trim()}>
                Clear {key}…
              </Btn>
            )}
            <Btn onClick={onClose}>Cancel</Btn>
          </Flex>
        </form>
        {current ? (
          <ConsequencesList c={preview.data!} />
        ) : preview.error ? (
          <ProblemNote>{problem(preview.error)}</ProblemNote>
        ) : (
          <Text color="soft">
            {wanted ? "computing the consequences…" : "Type a value to see the consequences before you set it."}
          </Text>
        )}
      </Flex>
      {wrong && <ProblemNote>{wrong}</ProblemNote>}
    </Box>
  );
}
