// How a view is laid out: on a small window, or a large zoom, in one column.

/** A list of so much width beside the rest; above it, where there is no room. */
export const besides = (width: string) => ({
  templateColumns: { base: "minmax(0,1fr)", md: `${width} minmax(0,1fr)` },
  templateRows: { base: "minmax(0,170px) minmax(0,1fr)", md: "minmax(0,1fr)" },
});
