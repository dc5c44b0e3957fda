// The columns of the ledger, shared by its head and its rows.
export const columns = [
  { flex: "2.2 1 0", minW: "0" },
  { w: "158px", flexShrink: 0 },
  { w: "62px", flexShrink: 0 },
  { w: "152px", flexShrink: 0 },
  { flex: "3 1 0", minW: "0" },
  { w: "92px", flexShrink: 0 },
] as const;
