// The marks: a verdict has a colour, a shape and a texture; membership has
// marks of its own, so that it is not taken for a verdict.
import { chakra, HStack, Text } from "@chakra-ui/react";
import type { ComponentProps } from "react";

export type Verdict = "permit" | "reject" | "uncovered";
export type Counts = { permit: number; reject: number; uncovered: number };

const color: Record<Verdict, string> = { permit: "permit", reject: "reject", uncovered: "open" };

export function verdictColor(v: Verdict) {
  return color[v];
}

type MarkKind = Verdict | "leak" | "choke" | "in" | "undecided" | "out";

/** One mark. It is decoration: the word always stands beside it or in the title. */
export function Mark({ kind, size = 11 }: { kind: MarkKind; size?: number }) {
  const c = kind === "leak" ? "reject" : kind === "choke" ? "permit" : kind in color ? color[kind as Verdict] : "ink";
  return (
    <chakra.svg
      viewBox="0 0 12 12"
      width={`${size}px`}
      height={`${size}px`}
      display="inline-block"
      verticalAlign="-1px"
      flexShrink={0}
      color={c}
      aria-hidden
    >
      {shapes[kind]}
    </chakra.svg>
  );
}

const shapes: Record<MarkKind, React.ReactNode> = {
  permit: <circle cx="6" cy="6" r="5" fill="currentColor" />,
  reject: <path d="M1 1h4l1 2.4L7 1h4v10H1z" fill="currentColor" />,
  uncovered: <path d="M6 .9 11.1 6 6 11.1.9 6z" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  leak: <path d="M1 1h4v10H1zM7.5 1H11v4l-2 1 2 1v4H7.5" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  choke: (
    <>
      <circle cx="6" cy="6" r="4.6" fill="none" stroke="currentColor" strokeWidth="1.6" />
      <path d="M1 6h10" stroke="currentColor" strokeWidth="2" />
    </>
  ),
  in: <rect x="1" y="1" width="10" height="10" rx="1.5" fill="currentColor" />,
  undecided: (
    <>
      <rect x="1.7" y="1.7" width="8.6" height="8.6" rx="1.5" fill="none" stroke="currentColor" strokeWidth="1.4" />
      <path d="M10.3 1.7v8.6H1.7z" fill="currentColor" />
    </>
  ),
  out: <rect x="1.7" y="1.7" width="8.6" height="8.6" rx="1.5" fill="none" stroke="currentColor" strokeWidth="1.4" />,
};

const verdicts: Verdict[] = ["permit", "reject", "uncovered"];

/** The heads of a table's columns, one for each verdict. */
export function VerdictHeads(props: ComponentProps<typeof chakra.th>) {
  return verdicts.map((v) => (
    <chakra.th key={v} {...props} fontWeight="500" color="soft">
      <Mark kind={v} size={9} /> {v}
    </chakra.th>
  ));
}

/** A verdict in words with its mark. */
export function VerdictWord({ verdict }: { verdict: Verdict }) {
  return (
    <HStack as="span" display="inline-flex" gap="5px" color={color[verdict]} fontWeight="500">
      <Mark kind={verdict} />
      <Text as="span">{verdict}</Text>
    </HStack>
  );
}

/** The texture of what is not decided; put once in the page. */
export function Textures() {
  return (
    <chakra.svg width="0" height="0" position="absolute" aria-hidden color="open">
      <defs>
        <pattern id="undecided-dots" width="4" height="4" patternUnits="userSpaceOnUse">
          <circle cx="1" cy="1" r=".85" fill="currentColor" />
          <circle cx="3" cy="3" r=".85" fill="currentColor" />
        </pattern>
      </defs>
    </chakra.svg>
  );
}

/** A bar cut by verdict. */
export function VerdictBar({ counts, width = 170, height = 9 }: { counts: Counts; width?: number; height?: number }) {
  const total = counts.permit + counts.reject + counts.uncovered || 1;
  const share = (n: number) => (n === 0 ? 0 : Math.max(2, (n / total) * width));
  const u = share(counts.uncovered);
  const r = share(counts.reject);
  const p = Math.max(0, width - u - r);
  const label = `${counts.permit} permit, ${counts.reject} reject, ${counts.uncovered} uncovered`;
  return (
    <chakra.svg
      width={`${width}px`}
      height={`${height}px`}
      display="inline-block"
      verticalAlign="-1px"
      role="img"
      aria-label={label}
    >
      <title>{label}</title>
      <chakra.rect width={`${p}px`} height={`${height}px`} fill="permit" />
      <chakra.rect x={`${p}px`} width={`${r}px`} height={`${height}px`} fill="reject" />
      {u > 0 && (
        <>
          <rect x={p + r} width={u} height={height} fill="url(#undecided-dots)" />
          <chakra.rect
            x={`${p + r + 0.6}px`}
            y="0.6px"
            width={`${Math.max(0.5, u - 1.2)}px`}
            height={`${height - 1.2}px`}
            fill="none"
            stroke="open"
            strokeWidth="1.2"
          />
        </>
      )}
    </chakra.svg>
  );
}

/** A small line of how much there was over the window. */
export function Spark({ values, width = 70, height = 16 }: { values: number[]; width?: number; height?: number }) {
  const top = Math.max(1, ...values);
  const step = width / Math.max(1, values.length - 1);
  const d = values
    .map((v, i) => `${i ? "L" : "M"}${(i * step).toFixed(1)} ${(height - 1.5 - (v / top) * (height - 3)).toFixed(1)}`)
    .join("");
  return (
    <chakra.svg
      width={`${width}px`}
      height={`${height}px`}
      display="inline-block"
      verticalAlign="middle"
      aria-hidden
      overflow="visible"
    >
      <chakra.path d={d} fill="none" stroke="volume" strokeWidth="1.2" />
    </chakra.svg>
  );
}
