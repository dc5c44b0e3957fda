// Small controls in the looks of the product.
import { Box, Button, chakra, Flex, Input, Text } from "@chakra-ui/react";
import { type ComponentProps, type ReactNode, useState } from "react";

type ButtonProps = ComponentProps<typeof Button> & { primary?: boolean };

export function Btn({ primary, ...props }: ButtonProps) {
  return (
    <Button
      data-primary={primary || undefined}
      size="xs"
      h="27px"
      px="10px"
      fontSize="12.5px"
      fontWeight="400"
      borderRadius="5px"
      borderWidth="1px"
      borderColor={primary ? "accent" : "line"}
      bg={primary ? "accent" : "sheet"}
      color={primary ? "onAccent" : "ink"}
      _hover={{ borderColor: "accent" }}
      {...props}
    />
  );
}

/** A button that reads as a link. */
export function Link({ children, ...props }: ComponentProps<typeof chakra.button>) {
  return (
    <chakra.button
      type="button"
      textDecoration="underline"
      textDecorationColor="line"
      textUnderlineOffset="3px"
      cursor="pointer"
      textAlign="left"
      _hover={{ textDecorationColor: "accent" }}
      {...props}
    >
      {children}
    </chakra.button>
  );
}

/** The sentence that answers a view's question. */
export function Sentence({ children }: { children: ReactNode }) {
  return (
    <Text as="h1" fontFamily="heading" fontSize="21px" lineHeight="1.25" fontWeight="400" letterSpacing="-.1px">
      {children}
    </Text>
  );
}

/** A few choices of which one, or several, are on. */
export function Switches<T extends string>({
  options,
  on,
  toggle,
  label,
}: {
  options: { value: T; shown: ReactNode }[];
  on: T[];
  toggle: (v: T) => void;
  label: string;
}) {
  return (
    <Flex
      flexShrink={0}
      role="group"
      aria-label={label}
      borderWidth="1px"
      borderColor="line"
      borderRadius="5px"
      overflow="hidden"
      bg="sheet"
      display="inline-flex"
    >
      {options.map((o, i) => (
        <chakra.button
          key={o.value}
          type="button"
          aria-pressed={on.includes(o.value)}
          onClick={() => toggle(o.value)}
          px="9px"
          py="2px"
          fontSize="12px"
          cursor="pointer"
          borderLeftWidth={i ? "1px" : 0}
          borderColor="line"
          bg={on.includes(o.value) ? "tintStrong" : undefined}
          fontWeight={on.includes(o.value) ? "600" : "400"}
        >
          {o.shown}
        </chakra.button>
      ))}
    </Flex>
  );
}

export function Chip({ children, onRemove }: { children: ReactNode; onRemove?: () => void }) {
  return (
    <Box
      as="span"
      display="inline-block"
      borderWidth="1px"
      borderColor="line"
      borderRadius="3px"
      px="5px"
      fontSize="12px"
      bg="sheet"
      whiteSpace="nowrap"
    >
      {children}
      {onRemove && (
        <chakra.button
          type="button"
          aria-label="remove this filter"
          onClick={onRemove}
          ml="4px"
          cursor="pointer"
          color="soft"
        >
          ×
        </chakra.button>
      )}
    </Box>
  );
}

export function Kbd({ children }: { children: ReactNode }) {
  return (
    <chakra.kbd
      fontFamily="mono"
      fontSize="11px"
      borderWidth="1px"
      borderColor="line"
      borderRadius="4px"
      px="5px"
      color="soft"
      bg="paper"
    >
      {children}
    </chakra.kbd>
  );
}

/** What is shown where there is nothing: the next step, and the way to it. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Box py="40px" px="20px" maxW="560px">
      <Text fontFamily="heading" fontSize="17px" mb="6px">
        {title}
      </Text>
      <Box color="soft">{children}</Box>
    </Box>
  );
}

export function ProblemNote({ children }: { children: ReactNode }) {
  return (
    <Box
      role="alert"
      borderLeftWidth="3px"
      borderColor="reject"
      bg="rejectTint"
      px="10px"
      py="6px"
      my="6px"
      whiteSpace="pre-wrap"
    >
      {children}
    </Box>
  );
}

/** A line of a form: what is asked, and what answers it. */
export function Field({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Flex gap="10px" py="4px" align="center">
      <Text w="96px" flexShrink={0} color="soft">
        {label}
      </Text>
      <Flex gap="8px" wrap="wrap" align="center" flex="1" minW="0">
        {children}
      </Flex>
    </Flex>
  );
}

type TypedProps = Omit<ComponentProps<typeof Input>, "value" | "onChange"> & {
  value: string;
  set: (v: string) => void;
};

type EntryProps = Omit<ComponentProps<typeof Input>, "onChange"> & { set: (v: string) => void };

/** A line that is written into; each change counts at once. */
export function Entry({ set, ...props }: EntryProps) {
  return <Input {...inputStyle} onChange={(e) => set(e.target.value)} {...props} />;
}

/** A text that counts when it is left, or with Enter. */
export function Typed({ value, set, ...props }: TypedProps) {
  const [text, setText] = useState<string>();
  const done = () => {
    if (text !== undefined && text.trim() !== value) set(text.trim());
    setText(undefined);
  };
  return (
    <Input
      {...inputStyle}
      value={text ?? value}
      onChange={(e) => setText(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => e.key === "Enter" && done()}
      {...props}
    />
  );
}

/** One of several, by name. */
export const Select = chakra("select", {
  base: {
    bg: "sheet",
    color: "ink",
    borderWidth: "1px",
    borderColor: "line",
    borderRadius: "5px",
    h: "27px",
    px: "6px",
    fontSize: "12.5px",
  },
});

export const inputStyle = {
  bg: "sheet",
  borderWidth: "1px",
  borderColor: "line",
  borderRadius: "5px",
  h: "27px",
  px: "8px",
  fontSize: "12.5px",
} as const;
