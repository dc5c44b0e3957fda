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
  select?: { on: boolean; toggle: () => void };
  actions?: { how: string; key: string; words: string; run: () => void }[]; // on the row, when it is looked at
};

/** One line of the ledger, at whatever depth. */
export function RowFrame({ depth, cells, more, open, toggle, onEnter, selected, name, select, actions = [] }: Props) {
  const { chosen } = useExtras();
  const keys = (e: KeyboardEvent) => {
    if (e.target !== e.currentTarget) return;
    const action = !e.ctrlKey && !e.metaKey && !e.altKey && actions.find((a) => a.key === e.key);
    if (action) action.run();
    else if (e.key === "ArrowRight" && toggle && !open) toggle();
    else if (e.key === "ArrowLeft" && toggle && open) toggle();
    else if (e.key === " " && select) select.toggle();
    else if (e.key === "Enter" || e.key === " ") (onEnter ?? toggle)?.();
    else return;
    e.preventDefault();
  };
  return (
    <Flex
      role="row"
      aria-level={depth + 1}
      aria-expanded={toggle ? !!open : undefined}
      aria-selected={selected || select?.on}
      aria-label={name}
      tabIndex={0}
      data-row={depth}
      onKeyDown={keys}
      onClick={onEnter ?? toggle}
      cursor="pointer"
      position="relative"
      css={{
        "& > .actions": { opacity: 0 },
        "& .select:not(:checked)": { opacity: 0 },
        "&:hover .select, &:focus .select": { opacity: 1 },
        "&:hover > .actions, &:focus > .actions, &:focus-within > .actions": { opacity: 1 },
      }}
      align="center"
      minH="29px"
      py="3px"
      pr="10px"
      borderBottomWidth="1px"
      borderColor="line2"
      bg={selected || select?.on ? "tint" : undefined}
      _hover={{ bg: "tint" }}
      _focusVisible={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-2px" }}
    >
      {cells.map((c, i) => (
        <Box
          key={i}
          role="gridcell"
          {...columns[i]}
          pl={i === 0 ? "6px" : "8px"}
          textAlign={i === 2 ? "right" : "left"}
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
        >
          {i === 0 && <chakra.span display="inline-block" w={`${depth * 18}px`} />}
          {i === 0 && select && (
            <chakra.input
              type="checkbox"
              className="select"
              tabIndex={-1}
              aria-label={`select ${name}`}
              checked={select.on}
              onChange={select.toggle}
              onClick={(e) => e.stopPropagation()}
              w="12px"
              h="12px"
              verticalAlign="-1px"
            />
          )}
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
      {actions.length > 0 && (
        <Flex
          className="actions"
          role="gridcell"
          position="absolute"
          right="6px"
          top="1px"
          bottom="1px"
          align="center"
          gap="4px"
          pl="10px"
          bg="tint"
        >
          {actions.map((a) => (
            <chakra.button
              key={a.how}
              type="button"
              tabIndex={-1}
              data-settle={a.how}
              title={`key ${a.key}`}
              onClick={(e) => {
                e.stopPropagation();
                a.run();
              }}
              px="8px"
              h="22px"
              fontSize="12px"
              borderWidth="1px"
              borderColor="line"
              borderRadius="4px"
              bg="sheet"
              cursor="pointer"
              _hover={{ borderColor: "accent" }}
            >
              {a.words}
            </chakra.button>
          ))}
        </Flex>
      )}
      {chosen.map((e) => (
        <Box
          key={e.key}
          role="gridcell"
          w={e.w}
          flexShrink={0}
          pl="8px"
          textAlign="right"
          fontSize="12px"
          color="soft"
          overflow="hidden"
          textOverflow="ellipsis"
          whiteSpace="nowrap"
        >
          {more?.[e.key]}
        </Box>
      ))}
    </Flex>
  );
}
