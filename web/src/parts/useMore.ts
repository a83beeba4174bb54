import { useEffect } from 'react';

interface Scrolled {
  hasNextPage: boolean;
  isFetching: boolean;
  fetchNextPage: () => Promise<unknown>;
}

/**
 * Reads the next page once the rows near the end are seen. It waits for whatever else is read of the list: a change
 * that is told of while a page is on its way has all pages read anew in its place, and what was asked for is asked
 * again when that has ended. A page can be empty and have a next one.
 */
export function useMore({ hasNextPage, isFetching, fetchNextPage }: Scrolled, near: boolean) {
  useEffect(() => {
    if (hasNextPage && !isFetching && near) void fetchNextPage();
  }, [near, hasNextPage, isFetching, fetchNextPage]);
}
