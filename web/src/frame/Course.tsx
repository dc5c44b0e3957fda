// The steps of the work in order: navigation and status in one.
import { Box, chakra, Flex, Text } from "@chakra-ui/react";
import { useEffect } from "react";
import { NavLink, useLocation, useNavigate } from "react-router";
import { api } from "../api/client";
import { carried, useCarried, useWindow } from "./address";
import { progress, stateWords, type StepOfWork } from "./progress";

const StepLink = chakra(NavLink);

/** The steps until their figures are there. */
const names = ["Workloads", "Groups", "Flows", "Policy", "Check", "Release", "Watch"].map((name) => ({
  path: name.toLowerCase(),
  name,
}));

/** A dot says how far a step has come: empty, half, full. */
const dots = {
  nothing: "transparent",
  begun: "linear-gradient(90deg, currentColor 50%, transparent 50%)",
  done: "currentColor",
};

export function Course() {
  const w = useWindow();
  const { data: s } = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  const { data: r } = api.useQuery("get", "/api/v1/rollout", { params: { query: w } });
  const { data: seen } = api.useQuery("get", "/api/v1/watch", { params: { query: { period: "day" } } });
  const along = useCarried();
  const place = useLocation().pathname.split("/")[1];
  const here = place === "evidence" ? "watch" : place;
  const navigate = useNavigate();
  const steps: (Partial<StepOfWork> & { path: string; name: string })[] = s && r && seen ? progress(s, r, seen) : names;
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
            color={i === at ? "accent" : "soft"}
            background={dots[step.state ?? "nothing"]}
            role={step.state && "img"}
            aria-label={step.state && stateWords[step.state]}
            title={step.state && stateWords[step.state]}
            data-state={step.state}
          />
          <Text fontWeight="600" color={i === at ? "accent" : "ink"}>
            {step.name}
          </Text>
          <Text fontSize="11.5px" color="soft" truncate data-fact={step.path}>
            {step.fact ?? "…"}
            {step.need && (
              <>
                {step.fact && " · "}
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
