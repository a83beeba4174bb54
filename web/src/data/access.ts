import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { api, ask } from '../api/client';
import { live } from './keys';

const page = <T, P extends string | number>(
  key: [what: string, ...of: unknown[]],
  first: P,
  read: (from: P) => Promise<T & { next?: P }>,
) => ({
  queryKey: live('access', ...key),
  initialPageParam: first,
  queryFn: ({ pageParam }: { pageParam: P }) => read(pageParam),
  getNextPageParam: (p: { next?: P }) => p.next || undefined,
  placeholderData: <D>(d: D) => d,
});

export const useKeys = (account: string, enabled = true) =>
  useInfiniteQuery({
    ...page(['keys', account], '', (after: string) =>
      ask(api.GET('/api/v1/keys', { params: { query: { account, after, limit: 200 } } })),
    ),
    enabled,
  });

export const useGrants = (bucket: string) =>
  useInfiniteQuery(
    page(['grants', bucket], 0, (after: number) =>
      ask(api.GET('/api/v1/grants', { params: { query: { bucket, after, limit: 200 } } })),
    ),
  );

export const usePeople = () =>
  useInfiniteQuery(
    page(['people'], '', (after: string) =>
      ask(api.GET('/api/v1/people', { params: { query: { after, limit: 200 } } })),
    ),
  );

export const useAccounts = () =>
  useInfiniteQuery(
    page(['accounts'], '', (after: string) =>
      ask(api.GET('/api/v1/accounts', { params: { query: { after, limit: 200 } } })),
    ),
  );

export const useSessions = () =>
  useInfiniteQuery(
    page(['sessions'], 0, (before: number) =>
      ask(api.GET('/api/v1/sessions', { params: { query: { before, limit: 200 } } })),
    ),
  );

export interface TrailFilter {
  kind: string;
  who: string;
  subject: string;
  since: string;
}

export const useTrail = (f: TrailFilter) =>
  useInfiniteQuery(
    page(['trail', f], 0, (before: number) =>
      ask(
        api.GET('/api/v1/trail', {
          params: {
            query: {
              kind: f.kind ? [f.kind] : undefined,
              who: f.who,
              subject: f.subject,
              since: f.since,
              before,
              limit: 100,
            },
          },
        }),
      ),
    ),
  );

export const useMatrix = (account: string) =>
  useInfiniteQuery(
    page(['matrix', account], '', (after: string) =>
      ask(api.GET('/api/v1/access/matrix', { params: { query: { account, after, limit: 100 } } })),
    ),
  );

export const useMaster = (on: boolean) =>
  useQuery({ queryKey: live('access', 'master'), queryFn: () => ask(api.GET('/api/v1/master-key')), enabled: on });
