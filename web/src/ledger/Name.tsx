import { chakra } from "@chakra-ui/react";

/** How a side of a row is called: by a group, by its tags, or by itself. */
export function Name({ row, strong }: { row: { label: string; lack?: string; kind: string }; strong?: boolean }) {
  return (
    <>
      <chakra.span
        fontWeight={strong ? "600" : "500"}
        fontStyle={row.kind === "tags" ? "italic" : undefined}
        title={row.kind === "tags" ? "no group has exactly these members; named by their tags" : undefined}
      >
        {row.label}
      </chakra.span>
      {row.kind === "tags" && (
        <chakra.span color="soft" fontSize="11.5px" title="no group has exactly these members; named by their tags">
          {" "}
          no group
        </chakra.span>
      )}
      {row.lack && (
        <chakra.span color="open" fontWeight="500">
          {" "}
          {row.lack} missing
        </chakra.span>
      )}
    </>
  );
}
