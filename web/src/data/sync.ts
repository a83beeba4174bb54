import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import type { StateKind } from '../parts/Marks';
import { live } from './keys';
import { whole } from './whole';

export type Sync = Schemas['SyncInfo'];
export type SyncRun = Schemas['SyncRunInfo'];

/** The shapes of how runs stand. */
export const runShape: Record<SyncRun['state'], StateKind> = {
  waiting: 'wait',
  running: 'run',
  asking: 'warn',
  done: 'good',
  partly: 'warn',
  failed: 'wrong',
  stopped: 'off',
};

export const underWay = (r?: SyncRun) => r?.state === 'waiting' || r?.state === 'running';

// That a run begins and ends is told by the line; how far it is, is asked for while it is under way.
const often = 1_000;
const seldom = 60_000;

export const useSyncs = () =>
  useQuery({
    queryKey: live('syncs'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/syncs', { params: { query } })),
        (p) => p.syncs,
      ),
    placeholderData: (d) => d,
    refetchInterval: (q) => (q.state.data?.some((s) => underWay(s.last)) ? often : seldom),
  });

export const useSync = (sync: string) =>
  useQuery({
    queryKey: live('sync', sync),
    queryFn: () => ask(api.GET('/api/v1/syncs/{sync}', { params: { path: { sync } } })),
    placeholderData: (d) => d,
    refetchInterval: (q) => (underWay(q.state.data?.last) ? often : seldom),
  });

export const useSyncRuns = (sync: string, latest?: string) =>
  useQuery({
    queryKey: live('sync-runs', sync, latest),
    queryFn: async () =>
      (await ask(api.GET('/api/v1/syncs/{sync}/runs', { params: { path: { sync }, query: { limit: 20 } } }))).runs,
    placeholderData: (d) => d,
  });

export const useOutcomes = (sync: string, run: number, failed: boolean, state: string) =>
  useInfiniteQuery({
    queryKey: live('sync-outcomes', sync, run, failed, state),
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/syncs/{sync}/runs/{run}/outcomes', {
          params: { path: { sync, run }, query: { after: pageParam, failed, limit: 100 } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last) => last.next,
  });
