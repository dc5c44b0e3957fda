import { Box, chakra, Flex } from "@chakra-ui/react";
import type { KeyboardEvent, ReactNode } from "react";
import { columns, type ExtraCells, useExtras } from "./columns";

type Props = {
  depth: number;
  cells: ReactNode[]; // in the order of the columns
  more?: ExtraCells; // for those columns that can be chosen
  open?: boolean;
  toggle?: () => void;
  onEnter?: () => void;
  selected?: boolean;
  name: string;
};

/** One line of the ledger, at whatever depth. */
export function RowFrame({ depth, cells, more, open, toggle, onEnter, selected, name }: Props) {
  const { chosen } = useExtras();
  const keys = (e: KeyboardEvent) => {
    if (e.target !== e.currentTarget) return;
    if (e.key === "ArrowRight" && toggle && !open) toggle();
    else if (e.key === "ArrowLeft" && toggle && open) toggle();
    else if (e.key === "Enter" || e.key === " ") (onEnter ?? toggle)?.();
    else return;
    e.preventDefault();
  };
  return (
    <Flex
      role="row"
      aria-level={depth + 1}
      aria-expanded={toggle ? !!open : undefined}
      aria-selected={selected}
      aria-label={name}
      tabIndex={0}
      data-row={depth}
      onKeyDown={keys}
      onClick={onEnter ?? toggle}
      cursor="pointer"
      align="center"
      minH="29px"
      py="3px"
      pr="10px"
      borderBottomWidth="1px"
      borderColor="line2"
      bg={selected ? "tint" : undefined}
      _hover={{ bg: "tint" }}
      _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
    >
      {cells.map((c, i) => (
        <Box key={i} role="gridcell" {...columns[i]} pl={i === 0 ? "6px" : "8px"} textAlign={i === 2 ? "right" : "left"} overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap">
          {i === 0 && <chakra.span display="inline-block" w={`${depth * 18}px`} />}
          {i === 0 && (
            <chakra.button
              type="button"
              tabIndex={-1}
              aria-label={open ? "fold" : "unfold"}
              visibility={toggle ? "visible" : "hidden"}
              display="inline-block"
              w="18px"
              color="soft"
              cursor="pointer"
              onClick={(e) => {
                e.stopPropagation();
                toggle?.();
              }}
            >
              {open ? "▾" : "▸"}
            </chakra.button>
          )}
          {c}
        </Box>
      ))}
      {chosen.map((e) => (
        <Box key={e.key} role="gridcell" w={e.w} flexShrink={0} pl="8px" textAlign="right" fontSize="12px" color="soft" overflow="hidden" textOverflow="ellipsis" whiteSpace="nowrap">
          {more?.[e.key]}
        </Box>
      ))}
    </Flex>
  );
}
