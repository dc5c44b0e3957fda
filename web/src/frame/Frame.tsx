// The frame around every view: title bar with the ask bar, the course, the
// state of the draft, the window, and the why panel.
import { Box, chakra, Flex, Grid, Toaster as ChakraToaster, Toast } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { Outlet, useLocation } from "react-router";
import { api, followChanges } from "../api/client";
import { DropAnywhere } from "../imports/Dropped";
import { Kbd } from "../marks/Controls";
import { Textures } from "../marks/Marks";
import { useWhy, useWindow } from "./address";
import { AskBar } from "./AskBar";
import { Course } from "./Course";
import { DraftStrip, useUndo } from "./DraftStrip";
import { EstateName } from "./Estate";
import { KeysDialog } from "./KeysDialog";
import { useKeys } from "./keys";
import { toaster } from "./toaster";
import { Troubles } from "./Troubles";
import { WhyPanel } from "./WhyPanel";
import { WindowStrip } from "./WindowStrip";

export function Frame() {
  const [live, setLive] = useState(true);
  const [keysOpen, setKeysOpen] = useState(false);
  const { subject } = useWhy();
  const watching = /^\/(watch|evidence)\b/.test(useLocation().pathname);
  const undo = useUndo();
  useEffect(() => followChanges(setLive), []);
  useKeys({
    "?": () => setKeysOpen(true),
    "mod+z": () => undo.undo(),
    "mod+shift+z": () => undo.redo(),
    "mod+y": () => undo.redo(),
  });
  return (
    // On a small window, or a large zoom, the page scrolls, so that the view keeps its height.
    <Flex direction="column" h="100%" overflowY="auto" _print={{ display: "block", h: "auto" }}>
      <Textures />
      <SkipLinks />
      <TitleBar onKeys={() => setKeysOpen(true)} />
      <Course />
      <DraftStrip undo={undo} live={live} />
      <Troubles />
      {/* Watching has times of its own. */}
      {!watching && <WindowStrip />}
      <Grid
        _print={{ display: "block" }}
        templateColumns={subject ? { base: "minmax(0,1fr)", md: "minmax(0,1fr) 316px" } : "minmax(0,1fr)"}
        flex="1 0 0"
        minH={{ base: "760px", md: "440px" }}
      >
        <Box
          as="main"
          id="view"
          tabIndex={-1}
          outline="none"
          minW="0"
          minH="0"
          overflow="hidden"
          _print={{ overflow: "visible" }}
        >
          <Outlet />
        </Box>
        {subject && <WhyPanel subject={subject} />}
      </Grid>
      <DropAnywhere />
      <KeysDialog open={keysOpen} onClose={() => setKeysOpen(false)} />
      <ChakraToaster toaster={toaster}>
        {(toast) => (
          <Toast.Root bg="ink" color="paper" fontSize="12.5px" py="9px" px="12px" w="360px">
            <Toast.Indicator />
            <Toast.Description>{toast.title}</Toast.Description>
            {toast.action && <Toast.ActionTrigger>{toast.action.label}</Toast.ActionTrigger>}
            <Toast.CloseTrigger />
          </Toast.Root>
        )}
      </ChakraToaster>
    </Flex>
  );
}

/** The first stops of the keyboard: past what is above every view. */
function SkipLinks() {
  const go = (to: string) => document.querySelector<HTMLElement>(to)?.focus();
  return (
    <Flex
      as="nav"
      aria-label="skip"
      _print={{ display: "none" }}
      position="absolute"
      zIndex="10"
      top="6px"
      left="50%"
      transform="translateX(-50%)"
    >
      {(
        [
          ["Skip to the view", "#view"],
          ["Skip to the first row", "main [data-row]"],
        ] as const
      ).map(([words, to]) => (
        <chakra.button
          key={to}
          type="button"
          onClick={() => go(to)}
          position="absolute"
          whiteSpace="nowrap"
          transform="translate(-50%, -60px)"
          _focusVisible={{ transform: "translate(-50%, 0)" }}
          bg="ink"
          color="paper"
          fontSize="12.5px"
          px="12px"
          h="30px"
          borderRadius="5px"
        >
          {words}
        </chakra.button>
      ))}
    </Flex>
  );
}

function TitleBar({ onKeys }: { onKeys: () => void }) {
  const w = useWindow();
  const summary = api.useQuery("get", "/api/v1/summary", { params: { query: w } });
  return (
    <Flex
      as="header"
      h="44px"
      align="center"
      gap="16px"
      px="20px"
      borderBottomWidth="1px"
      borderColor="line2"
      flexShrink={0}
      _print={{ display: "none" }}
    >
      <Flex
        align="center"
        gap="9px"
        w={{ base: "auto", md: "190px" }}
        flexShrink={0}
        fontFamily="heading"
        fontWeight="500"
        fontSize="17px"
      >
        <Logo /> Lucid Orchard
      </Flex>
      <AskBar />
      <Flex w={{ base: "auto", md: "190px" }} minW="40px" justify="flex-end" gap="8px" color="soft" align="center">
        {summary.data && <EstateName summary={summary.data} />}
        <chakra.button type="button" onClick={onKeys} aria-label="keys and appearance" cursor="pointer">
          <Kbd>?</Kbd>
        </chakra.button>
      </Flex>
    </Flex>
  );
}

function Logo() {
  return (
    <chakra.svg width="22px" height="22px" viewBox="0 0 22 22" color="accent" aria-hidden>
      <g fill="none" stroke="currentColor" strokeWidth="1.6">
        <path d="M11 21V8M11 15c-3 0-5-1.6-5-4.4M11 12.5c3 0 5-1.6 5-4.4" />
      </g>
      <circle cx="11" cy="4.5" r="3" fill="currentColor" />
      <circle cx="5.6" cy="8" r="2.6" fill="none" stroke="currentColor" strokeWidth="1.5" />
      <circle cx="16.6" cy="5.6" r="2.6" fill="currentColor" opacity=".55" />
    </chakra.svg>
  );
}
