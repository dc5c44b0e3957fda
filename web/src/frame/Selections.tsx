// Saved selections: filters of a list under a name, for everybody.
import { chakra, Menu as M, Portal, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, problem, caughtUp } from "../api/client";
import { Btn, Entry } from "../marks/Controls";
import { useAddress } from "./address";
import { say } from "./toaster";

/** keys are the parts of the address that the filter is made of. */
export function Selections({ list, keys }: { list: string; keys: string[] }) {
  const { search, change } = useAddress();
  const { data } = api.useQuery("get", "/api/v1/selections", { params: { query: { list } } });
  const save = api.useMutation("put", "/api/v1/selections");
  const drop = api.useMutation("delete", "/api/v1/selections");
  const [name, setName] = useState("");
  const now = new URLSearchParams();
  for (const k of keys) for (const v of search.getAll(k)) now.append(k, v);
  const filter = now.toString();
  const current = data?.find((s) => s.filter === filter && filter !== "");
  const apply = (text: string) => {
    const to = new URLSearchParams(text);
    change(Object.fromEntries(keys.map((k) => [k, to.getAll(k)])));
  };
  const run = async (what: string, job: Promise<unknown>) => {
    try {
      await job;
      say(what);
      await caughtUp();
    } catch (e) {
      say(problem(e), "error");
    }
  };
  return (
    <M.Root closeOnSelect>
      <M.Trigger asChild>
        <Btn>{current?.name ?? "Selections"} ▾</Btn>
      </M.Trigger>
      <Portal>
        <M.Positioner>
          <M.Content bg="sheet" fontSize="12.5px" minW="240px">
            {data?.length === 0 && (
              <Text px="8px" py="3px" color="soft">
                None saved yet.
              </Text>
            )}
            {data?.map((s) => (
              <M.Item key={s.name} value={s.name} onClick={() => apply(s.filter)}>
                <Text flex="1" fontWeight={s === current ? "600" : "400"}>
                  {s.name}
                </Text>
                <chakra.button
                  type="button"
                  aria-label={`delete ${s.name}`}
                  color="soft"
                  onClick={(e) => {
                    e.stopPropagation();
                    void run(
                      `Deleted the selection ${s.name}`,
                      drop.mutateAsync({ params: { query: { list, name: s.name } } }),
                    );
                  }}
                >
                  ×
                </chakra.button>
              </M.Item>
            ))}
            <chakra.form
              px="8px"
              pt="6px"
              pb="4px"
              display="flex"
              gap="6px"
              borderTopWidth="1px"
              borderColor="line2"
              onKeyDown={(e) => e.stopPropagation()}
              onSubmit={(e) => {
                e.preventDefault();
                void run(
                  `Saved the selection ${name}`,
                  save.mutateAsync({ body: { list, name: name.trim(), filter } }),
                ).then(() => setName(""));
              }}
            >
              <Entry
                placeholder={filter ? "save these filters as…" : "set a filter first"}
                aria-label="name of the selection"
                disabled={!filter}
                value={name}
                set={setName}
              />
              <Btn type="submit" disabled={!filter || !name.trim()}>
                Save
              </Btn>
            </chakra.form>
          </M.Content>
        </M.Positioner>
      </Portal>
    </M.Root>
  );
}
