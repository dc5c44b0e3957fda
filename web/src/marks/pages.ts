// Long lists that are read in pages as they come into sight.
import { useEffect } from "react";

type Pages = { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => unknown };

/** Which part of a list each page is, for a list that says its total. */
export function partsOf<Page extends { total: number }>(size: number) {
  return {
    pageParamName: "offset",
    initialPageParam: 0,
    getNextPageParam: (last: Page, all: Page[]) => (all.length * size < last.total ? all.length * size : undefined),
  };
}

/** Reads the next page when the last row in sight comes near the end of what is there. */
export function useNextPage(list: Pages, shown: number, there: number, ahead: number) {
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const near = hasNextPage && !isFetchingNextPage && shown > there - ahead;
  useEffect(() => {
    if (near) void fetchNextPage();
  }, [near, there, fetchNextPage]);
}
