// The ask bar: finds workloads, groups and rules, and answers
// "client -> server service" with the verdict and its why.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Schemas } from "../api/client";
import { Kbd } from "../marks/Controls";
import { VerdictWord } from "../marks/Marks";
import { worded } from "../marks/words";
import { useAddress, useWhy, useWindow, write } from "./address";
import { useKeys } from "./keys";

type Found = Schemas["Found"];

export function AskBar() {
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const input = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const { search } = useAddress();
  const { show } = useWhy();
  const w = useWindow();
  const asked = useDeferredValue(text.trim());
  const example = api.useQuery("get", "/api/v1/summary", { params: { query: w } }).data?.example;
  const answer = api.useQuery(
    "get",
    "/api/v1/ask",
    { params: { query: { ...w, q: asked } } },
    { enabled: asked.length > 1, staleTime: 5_000 },
  );
  const focus = () => {
    input.current?.focus();
    input.current?.select();
  };
  useKeys({ "mod+k": focus, "/": focus });
  const found = answer.data?.findings ?? [];
  const why = answer.data?.why;
  const several = answer.data?.several;

  const go = (f: Found) => {
    const keep = new URLSearchParams();
    for (const k of ["from", "to"]) {
      const v = search.get(k);
      if (v) keep.set(k, v);
    }
    if (f.kind === "workload") {
      keep.set("why", write({ kind: "workload", id: f.id }));
      keep.set("q", f.id);
      void navigate(`/workloads?${keep}`);
    } else if (f.kind === "group") void navigate(`/groups/${encodeURIComponent(f.id)}?${keep}`);
    else {
      keep.set("why", write({ kind: "rule", line: Number(f.id) }));
      keep.set("line", f.id);
      void navigate(`/policy?${keep}`);
    }
    done();
  };
  const done = () => {
    setOpen(false);
    input.current?.blur();
  };
  const ready = !answer.isFetching && asked === text.trim();
  // Enter before the answer is there counts once it is.
  const [waiting, setWaiting] = useState(false);
  const enter = () => {
    if (!ready) return setWaiting(text.trim().length > 1);
    setWaiting(false);
    if (why) {
      show({ kind: "flow", client: why.client.addr, server: why.server.addr, service: why.service });
      done();
    } else if (several) {
      const keep = new URLSearchParams();
      for (const k of ["from", "to"]) {
        const v = search.get(k);
        if (v) keep.set(k, v);
      }
      keep.set("part", "ask");
      keep.set("ask", several.question);
      void navigate(`/check?${keep}`);
      done();
    } else if (found[at]) go(found[at]);
  };
  useEffect(() => {
    if (waiting && ready) enter();
  });
  return (
    <Box position="relative" flex="1" maxW="600px" mx="auto">
      <Flex
        h="30px"
        borderWidth="1px"
        borderColor="line"
        borderRadius="15px"
        bg="sheet"
        align="center"
        px="12px"
        gap="10px"
        _focusWithin={{ borderColor: "accent" }}
      >
        <chakra.input
          ref={input}
          flex="1"
          bg="transparent"
          outline="none"
          fontFamily={text.includes("->") || text.includes("→") ? "mono" : "body"}
          fontSize="12.5px"
          placeholder={example ? `Ask “${example}”, or find anything` : "Find anything"}
          aria-label="ask a question or find anything"
          role="combobox"
          aria-expanded={open}
          value={text}
          onFocus={() => setOpen(true)}
          onBlur={() => setTimeout(() => setOpen(false), 150)}
          onChange={(e) => {
            setText(e.target.value);
            setWaiting(false);
            setAt(0);
            setOpen(true);
          }}
          onKeyDown={(e) => {
            if (e.key === "ArrowDown") setAt(Math.min(at + 1, found.length - 1));
            else if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
            else if (e.key === "Enter") enter();
            else if (e.key === "Escape") done();
            else return;
            e.preventDefault();
          }}
        />
        <Kbd>Ctrl K</Kbd>
      </Flex>
      {open && asked.length > 1 && answer.data && (
        <Box
          position="absolute"
          top="34px"
          left="0"
          right="0"
          bg="sheet"
          borderWidth="1px"
          borderColor="line"
          borderRadius="8px"
          zIndex="20"
          py="6px"
          boxShadow="0 6px 24px rgba(0,0,0,.12)"
          role="listbox"
        >
          {why && (
            <chakra.button
              type="button"
              onMouseDown={enter}
              px="14px"
              py="6px"
              w="100%"
              textAlign="left"
              cursor="pointer"
              data-answer={why.verdict}
            >
              <Flex gap="10px" align="baseline">
                <VerdictWord verdict={why.verdict} />
                <Text color="soft" truncate>
                  {why.rule ? why.rule.sentence : `no rule of ${why.rules} matches`}
                </Text>
                {answer.data.inForce && (
                  <Text flexShrink={0} data-in-force-says={answer.data.inForce.verdict}>
                    release {answer.data.inForce.release}, in force, says{" "}
                    <VerdictWord verdict={answer.data.inForce.verdict} />
                  </Text>
                )}
                <Text ml="auto" flexShrink={0}>
                  Enter: why
                </Text>
              </Flex>
            </chakra.button>
          )}
          {several && (
            <chakra.button
              type="button"
              onMouseDown={enter}
              px="14px"
              py="6px"
              w="100%"
              textAlign="left"
              cursor="pointer"
              data-answer={several.verdict}
            >
              <Flex gap="10px" align="baseline">
                <Text>{worded(several.words)}</Text>
                <Text ml="auto" flexShrink={0} color="soft">
                  Enter: by which rules
                </Text>
              </Flex>
            </chakra.button>
          )}
          {answer.data.problem && (
            <Text px="14px" py="6px" color="reject" role="alert">
              {answer.data.problem}
            </Text>
          )}
          {!why && !several && !answer.data.problem && found.length === 0 && (
            <Text px="14px" py="6px" color="soft">
              No match. To ask a question, write: client -&gt; server service
            </Text>
          )}
          {found.map((f, i) => (
            <Flex
              key={`${f.kind}${f.id}`}
              role="option"
              aria-selected={i === at}
              px="14px"
              py="4px"
              gap="10px"
              bg={i === at ? "tint" : undefined}
              cursor="pointer"
              onMouseEnter={() => setAt(i)}
              onMouseDown={() => go(f)}
            >
              <Text color="soft" w="66px" flexShrink={0}>
                {f.kind}
              </Text>
              <Text fontWeight="500" truncate>
                {f.name}
              </Text>
              <Text color="soft" ml="auto" truncate maxW="240px">
                {f.hint}
              </Text>
            </Flex>
          ))}
        </Box>
      )}
    </Box>
  );
}
