import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { still } from './keys';

export type Found = Schemas['FoundObject'];

/** What an expression finds, page by page; nothing is asked before there is one. */
export const useFound = (expression: string, versions: boolean) =>
  useInfiniteQuery({
    queryKey: still('find', expression, versions),
    queryFn: ({ pageParam }) =>
      ask(api.POST('/api/v1/find', { body: { expression, versions, limit: 100, after: pageParam } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    enabled: expression !== '',
    retry: false,
    staleTime: 0,
  });

export const useFoundCount = (expression: string, versions: boolean, wanted: boolean) =>
  useQuery({
    queryKey: still('find-count', expression, versions),
    queryFn: () => ask(api.POST('/api/v1/find/count', { body: { expression, versions } })),
    enabled: wanted && expression !== '',
    retry: false,
    staleTime: 0,
  });

/** The questions that the account keeps; none for those who do not administer it. */
export const useSaved = () =>
  useQuery({
    queryKey: still('find-saved'),
    queryFn: async () => (await ask(api.GET('/api/v1/find/saved'))).finds,
    retry: false,
    staleTime: 0,
  });

const system: { name: string; values: string[] }[] = [
  { name: 'key', values: [] },
  { name: 'bucket', values: [] },
  { name: 'size', values: [] },
  { name: 'age', values: [] },
  { name: 'changed', values: [] },
  { name: 'type', values: [] },
  { name: 'tier', values: [] },
  { name: 'writer', values: [] },
  { name: 'sealed', values: [] },
  { name: 'current', values: [] },
  { name: 'replication', values: ['pending', 'failed', 'completed'] },
];

/** The fields of the language, and those that objects have, with common values. */
export function useWords() {
  const own = useQuery({
    queryKey: still('find-words'),
    queryFn: async () => (await ask(api.GET('/api/v1/find/words'))).words,
    staleTime: 60_000,
  });
  return [...system, ...(own.data ?? [])];
}
