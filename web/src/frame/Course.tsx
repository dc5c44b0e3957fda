// The steps of the work in order: navigation and status in one.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api } from "../api/client";
import { n, percent, plural } from "../marks/words";
import { troubled } from "../releasing/waves";
import { carried, useCarried, useWindow } from "./address";

const StepLink = chakra(NavLink);

export function Course() {
  const w = useWindow();
  const { data: s } = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const { data: r } = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const { data: seen } = api.useQuery("get", "/api/v1/watch", { params: { query: { period: "day" } } });
  const along = useCarried();
  const place = useLocation().pathname.split("/")[1];
  const here = place === "evidence" ? "watch" : place;
  const navigate = useNavigate();
  const steps = [
    {
      path: "workloads",
      name: "Workloads",
      fact: s && n(s.workloads),
      need: s?.lack ? `${n(s.lack)} lack ${article(s.lackKey)}` : "",
    },
    {
      path: "groups",
      name: "Groups",
      fact: s && n(s.groups),
      need: s?.undecided ? `${n(s.undecided)} with undecided` : "",
    },
    { path: "flows", name: "Flows", fact: s && plural(s.conversations, "conversation"), need: "" },
    {
      path: "policy",
      name: "Policy",
      fact: s && plural(s.rules, "rule"),
      need: s?.proposals ? plural(s.proposals, "proposal") : "",
    },
    {
      path: "check",
      name: "Check",
      fact: s && (s.conversations ? percent(s.decided) : "nothing to check"),
      need: s?.uncovered ? `${n(s.uncovered)} uncovered` : "",
    },
    {
      path: "release",
      name: "Release",
      fact: r && (r.inForce ? `${r.inForce} in force` : "nothing in force"),
      need: r
        ? troubled(r.points).length
          ? `${n(troubled(r.points).length)} to look at`
          : r.releases[0] && s && !r.releases[0].same
            ? "draft differs"
            : ""
        : "",
    },
    {
      path: "watch",
      name: "Watch",
      fact:
        seen &&
        (seen.sum.leaks
          ? `${n(seen.sum.leaks)} leaked`
          : seen.sum.chokes
            ? `${n(seen.sum.chokes)} choked`
            : seen.sum.unclear
              ? `${n(seen.sum.unclear)} unclear`
              : "quiet"),
      need: seen?.open ? plural(seen.open, "matter") : "",
    },
  ];
  useEffect(() => {
    const listen = (e: KeyboardEvent) => {
      const step = e.altKey && !e.ctrlKey ? steps[Number(e.code.replace("Digit", "")) - 1] : undefined;
      if (step) {
        e.preventDefault();
        void navigate(`/${step.path}${carried(new URLSearchParams(window.location.search))}`);
      }
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  });
  const at = steps.findIndex((x) => x.path === here);
  return (
    <Flex
      as="nav"
      aria-label="the course of the work"
      h="56px"
      px="20px"
      borderBottomWidth="1px"
      borderColor="line"
      flexShrink={0}
      _print={{ display: "none" }}
    >
      {steps.map((step, i) => (
        <StepLink
          key={step.path}
          to={`/${step.path}${along}`}
          flex="1"
          minW="0"
          position="relative"
          pt="9px"
          pl="18px"
          pr="10px"
          borderBottomWidth="2px"
          borderColor={i === at ? "accent" : "transparent"}
          mb="-1px"
        >
          <Box
            position="absolute"
            left="2px"
            top="14px"
            w="9px"
            h="9px"
            borderRadius="full"
            borderWidth="1.5px"
            borderColor={i === at ? "accent" : "soft"}
            bg={i === at ? "accent" : i < at ? "soft" : "paper"}
          />
          <Text fontWeight="600" color={i === at ? "accent" : "ink"}>
            {step.name}
          </Text>
          <Text fontSize="11.5px" color="soft" truncate data-fact={step.path}>
            {step.fact ?? "…"}
            {step.need && (
              <>
                {" · "}
                <chakra.span color="open" fontWeight="500">
                  {step.need}
                </chakra.span>
              </>
            )}
          </Text>
        </StepLink>
      ))}
    </Flex>
  );
}

function article(key: string | undefined) {
  return key ? `${/^[aeiou]/.test(key) ? "an" : "a"} ${key}` : "";
}
