// Tags that proposals stand on and that machines lack: set, they need no rule of
// their own.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { useWhy } from "../frame/address";
import { say } from "../frame/toaster";
import { Btn, Link } from "../marks/Controls";
import { plural } from "../marks/words";

type Hint = Schemas["DerivedOut"]["tags"][number];

const few = 4;

export function Tags({ list }: { list: Hint[] }) {
  const set = api.useMutation("post", "/api/v1/tags");
  const { show } = useWhy();
  const [open, setOpen] = useState(false);
  const [all, setAll] = useState(false);
  if (list.length === 0) return null;
  const put = async (t: Hint) => {
    try {
      await set.mutateAsync({ body: { workloads: [t.workload], key: t.key, value: t.value } });
      say(`${t.key} of ${t.name} is ${t.value}; derive again after setting the tags`);
    } catch (e) {
      say(problem(e), "error");
    }
    await caughtUp();
  };
  const shown = all ? list : list.slice(0, few);
  return (
    <Box px="16px" py="3px" fontSize="12px" data-tag-hints={list.length}>
      <Text>
        <b>{plural(list.length, "tag")} to set first</b>
        <chakra.span color="soft">
          ; {list.length === 1 ? "it settles" : "they settle"}{" "}
          {plural(
            list.reduce((s, t) => s + t.settles, 0),
            "conversation",
          )}
        </chakra.span>{" "}
        ·{" "}
        <Link aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "fold" : "show"}
        </Link>
      </Text>
      {(open ? shown : []).map((t) => (
        <Flex key={t.workload + t.key} gap="8px" align="center" py="1px">
          <Text flex="1" minW="0">
            <Link onClick={() => show({ kind: "workload", id: t.workload })}>{t.name}</Link> behaves like {t.key}{" "}
            <b>{t.value}</b>
            <chakra.span color="soft">
              {t.was ? `; its tag is ${t.was}` : ""} · settles {plural(t.settles, "conversation")}
            </chakra.span>
          </Text>
          <Btn h="22px" aria-label={`set ${t.key} of ${t.name} to ${t.value}`} onClick={() => void put(t)}>
            Set
          </Btn>
        </Flex>
      ))}
      {open && list.length > shown.length && (
        <Link onClick={() => setAll(true)}>and {list.length - shown.length} more</Link>
      )}
    </Box>
  );
}
