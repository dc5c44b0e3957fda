import { chakra } from "@chakra-ui/react";
import type { KeyboardEvent } from "react";

/** Something on the map that can be chosen, with the mouse or the keyboard. */
export function Choice({
  label,
  on,
  act,
  children,
}: {
  label: string;
  on: boolean;
  act: () => void;
  children: React.ReactNode;
}) {
  return (
    <chakra.g
      role="button"
      tabIndex={0}
      aria-label={label}
      aria-pressed={on}
      cursor="pointer"
      opacity={1}
      _focusVisible={{ outline: "2px solid", outlineColor: "accent" }}
      css={{ "& .lit": { opacity: on ? 1 : 0 }, "&:hover .lit": { opacity: 1 } }}
      onClick={act}
      onKeyDown={(e: KeyboardEvent) => {
        if (e.key !== "Enter" && e.key !== " ") return;
        e.preventDefault();
        act();
      }}
    >
      <title>{label}</title>
      <g aria-hidden>{children}</g>
    </chakra.g>
  );
}
