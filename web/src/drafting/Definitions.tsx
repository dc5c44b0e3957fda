import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Schemas } from "../api/client";
import { Link } from "../marks/Controls";
import { plural } from "../marks/words";
import { RuleForm } from "./RuleForm";
import { useEdit } from "./useEdit";

/** Services, areas and assertions: what the rules speak with, folded away. */
export function Definitions({ policy }: { policy: Schemas["PolicyOut"] }) {
  const [open, setOpen] = useState(false);
  const [editing, setEditing] = useState<number | "new">();
  const { tryEdit } = useEdit();
  const list = policy.statements.filter((s) => s.kind === "service" || s.kind === "area" || s.kind === "assertion");
  const count = (k: string) => list.filter((s) => s.kind === k).length;
  const remove = (line: number) => tryEdit({ op: "remove", line, revision: policy.revision });
  return (
    <Box>
      <Link color="soft" aria-expanded={open} onClick={() => setOpen(!open)}>
        {open ? "▾" : "▸"} {plural(count("service"), "service")}, {plural(count("area"), "area")},{" "}
        {plural(count("assertion"), "assertion")}
      </Link>
      {open && (
        <Box mt="4px">
          {list.map((s) =>
            editing === s.line ? (
              <RuleForm
                key={s.line}
                policy={policy}
                edit={{ op: "change", line: s.line }}
                start={s.text}
                onDone={() => setEditing(undefined)}
              />
            ) : (
              <Flex key={s.line} gap="12px" py="2px" borderBottomWidth="1px" borderColor="line2">
                <Text fontFamily="mono" fontSize="12px" flex="1" minW="0" truncate title={s.text}>
                  {s.text}
                </Text>
                <Link color="soft" onClick={() => setEditing(s.line)}>
                  edit
                </Link>
                <Link color="soft" onClick={() => void remove(s.line)}>
                  remove
                </Link>
              </Flex>
            ),
          )}
          {editing === "new" ? (
            <RuleForm policy={policy} edit={{ op: "add" }} start="" onDone={() => setEditing(undefined)} />
          ) : (
            <chakra.span display="block" mt="4px">
              <Link color="soft" onClick={() => setEditing("new")}>
                add a service, an area, an assertion or a layer
              </Link>
            </chakra.span>
          )}
        </Box>
      )}
    </Box>
  );
}
