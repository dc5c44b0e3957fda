// The looks: paper, one accent, three verdicts that are told apart by colour,
// shape and texture. Values are semantic tokens, so that the dark theme is the
// same page by lamplight.
import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

const token = (light: string, dark: string) => ({ value: { _light: light, _dark: dark } });

const config = defineConfig({
  globalCss: {
    "html, body, #root": { height: "100%", _print: { height: "auto", overflow: "visible" } },
    body: {
      bg: "paper",
      color: "ink",
      fontFamily: "body",
      fontSize: "13px",
      lineHeight: "1.4",
      fontVariantNumeric: "tabular-nums",
      overflow: "hidden",
      _print: { bg: "white", overflow: "visible" },
    },
    "*:focus-visible": { outline: "2px solid {colors.accent}", outlineOffset: "1px" },
    "::selection": { bg: "tintStrong" },
    // Who asked the system for less motion gets none.
    "*, *::before, *::after": { _motionReduce: { animationDuration: "1ms!", transitionDuration: "1ms!" } },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: "'IBM Plex Sans', sans-serif" },
        heading: { value: "'Source Serif 4 Variable', serif" },
        mono: { value: "'IBM Plex Mono', monospace" },
      },
    },
    semanticTokens: {
      colors: {
        paper: token("#FAF8F3", "#1C1B1E"),
        sheet: token("#FFFEFB", "#242327"),
        ink: token("#23262C", "#E9E5DC"),
        soft: token("#61646A", "#A8A49B"),
        line: token("#DCD6CA", "#45424A"),
        line2: token("#EBE6DB", "#333138"),
        accent: token("#5B2A4E", "#D3A6C6"),
        onAccent: token("#FFFFFF", "#2A1424"),
        tint: token("#F1EAF0", "#2D2630"),
        tintStrong: token("#ECE2EA", "#463849"),
        permit: token("#1F6F8B", "#6FB9D3"),
        permitTint: token("#DCEBF0", "#20343C"),
        reject: token("#A8441F", "#E08D68"),
        rejectTint: token("#F6E3DA", "#40281D"),
        open: token("#6F52A8", "#B49BE4"),
        openTint: token("#E9E3F5", "#312A42"),
        veil: token("#FAF8F3CC", "#1C1B1ECC"),
        volume: token("#8E8A80", "#7C7872"),
        volumeFaint: token("#D9D4C8", "#3B3940"),
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);
