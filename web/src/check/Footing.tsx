// What holds whatever was seen: the assertions, and what was found of the policy.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { useAddress, useCarried, useWindow } from "../frame/address";
import { Link, Switches } from "../marks/Controls";
import { n } from "../marks/words";
import { MendButton } from "../policy/MendButton";
import { Assertions } from "./Assertions";

export function Footing() {
  const w = useWindow();
  const { search, change } = useAddress();
  const shown = search.get("foot") === "findings" ? "findings" : "assertions";
  const asserts = api.useQuery("get", "/api/assertions");
  const found = api.useQuery("get", "/api/findings", { params: { query: w } }, { placeholderData: (kept) => kept });
  const broken = asserts.data?.filter((a) => a.result !== "holds").length ?? 0;
  return (
    <Box borderTopWidth="1px" borderColor="line" flexShrink={0} pt="5px">
      <Switches
        label="what holds"
        on={[shown]}
        toggle={(v) => change({ foot: v === "findings" ? v : null })}
        options={[
          { value: "assertions", shown: <>Assertions{broken > 0 && <chakra.span color="open" fontWeight="500"> {n(broken)} open or broken</chakra.span>}</> },
          { value: "findings", shown: <>Findings{!!found.data?.findings.length && <chakra.span color="open" fontWeight="500"> {n(found.data.findings.length)}</chakra.span>}</> },
        ]}
      />
      <chakra.a href={`/api/${shown}.csv?${new URLSearchParams(Object.entries(w).filter((e): e is [string, string] => !!e[1]))}`} download float="right" color="soft" textDecoration="underline" textUnderlineOffset="3px">
        Export CSV
      </chakra.a>
      {shown === "assertions" ? <Assertions /> : found.data && <FindingsList list={found.data} />}
    </Box>
  );
}

/** Each finding with its reason and, where there is one, the mend. */
function FindingsList({ list }: { list: Schemas["FindingList"] }) {
  const carried = useCarried();
  const navigate = useNavigate();
  const go = (f: Schemas["FoundAt"]) => void navigate(f.group ? `/groups/${encodeURIComponent(f.group)}${carried}` : `/policy${carried}${carried ? "&" : "?"}line=${f.line}`);
  return (
    <Box py="6px" maxH="132px" overflowY="auto" role="region" aria-label="findings">
      {list.findings.length === 0 && <Text color="soft">Nothing to say against the draft.</Text>}
      {list.findings.map((f) => (
        <Flex key={`${f.line} ${f.kind}`} gap="8px" py="2px" align="baseline" data-finding={f.kind}>
          <Text color="open" fontWeight="500" w="150px" flexShrink={0}>
            {f.kind}
          </Text>
          <Link w="28%" flexShrink={0} overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap" title={f.text} onClick={() => go(f)}>
            {f.group ?? (f.text || "the policy")}
          </Link>
          <Text flex="1" minW="0" color="soft">
            {f.words}
          </Text>
          <MendButton revision={list.revision} line={f.line} finding={f} about={f.group ?? f.text} />
        </Flex>
      ))}
    </Box>
  );
}
