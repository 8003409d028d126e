import type { UseInfiniteQueryResult } from '@tanstack/react-query';
import { useCallback } from 'react';

/** Fetches the next page of a list unless there is none or it is on its way; stays the same between two renders. */
export function useMore({
  fetchNextPage,
  hasNextPage,
  isFetchingNextPage,
}: Pick<UseInfiniteQueryResult, 'fetchNextPage' | 'hasNextPage' | 'isFetchingNextPage'>): () => void {
  return useCallback(() => {
    if (hasNextPage && !isFetchingNextPage) void fetchNextPage();
  }, [fetchNextPage, hasNextPage, isFetchingNextPage]);
}
