import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import type { StateKind } from '../parts/Marks';
import { live, still } from './keys';
import { whole } from './whole';

export type Census = Schemas['CensusInfo'];
export type CensusRun = Schemas['CensusRunInfo'];
export type Difference = Schemas['CensusChanged'];

/** The shapes of how runs stand. */
export const runShape: Record<CensusRun['state'], StateKind> = {
  waiting: 'wait',
  running: 'run',
  done: 'good',
  failed: 'wrong',
  stopped: 'off',
};

export const underWay = (r?: CensusRun) => r?.state === 'waiting' || r?.state === 'running';

// That a run begins and ends is told by the line; how far it is, is asked for while it is under way.
const often = 1_000;
const seldom = 60_000;

export const useCensuses = () =>
  useQuery({
    queryKey: live('censuses'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/censuses', { params: { query } })),
        (p) => p.censuses,
      ),
    placeholderData: (d) => d,
    refetchInterval: (q) => (q.state.data?.some((c) => underWay(c.last)) ? often : seldom),
  });

export const useCensus = (census: string) =>
  useQuery({
    queryKey: live('census', census),
    queryFn: () => ask(api.GET('/api/v1/censuses/{census}', { params: { path: { census } } })),
    placeholderData: (d) => d,
    refetchInterval: (q) => (underWay(q.state.data?.last) ? often : seldom),
  });

export const useCensusRuns = (census: string, latest: string) =>
  useQuery({
    queryKey: live('census-runs', census, latest),
    queryFn: async () =>
      (await ask(api.GET('/api/v1/censuses/{census}/runs', { params: { path: { census }, query: { limit: 50 } } })))
        .runs,
    placeholderData: (d) => d,
  });

/** The rows of a run that an expression holds for. */
export const useCensusRows = (census: string, run: number, where: string) =>
  useInfiniteQuery({
    queryKey: still('census-rows', census, run, where),
    queryFn: ({ pageParam }) =>
      ask(
        api.POST('/api/v1/censuses/{census}/runs/{run}/rows', {
          params: { path: { census, run } },
          body: { where, after: pageParam, limit: 100 },
        }),
      ),
    initialPageParam: '',
    getNextPageParam: (last) => last.next,
    retry: false,
  });

export const useCensusTotals = (census: string, run: number, by: string, where: string) =>
  useQuery({
    queryKey: still('census-totals', census, run, by, where),
    queryFn: () =>
      ask(
        api.POST('/api/v1/censuses/{census}/runs/{run}/totals', {
          params: { path: { census, run } },
          body: { by, where, limit: 200 },
        }),
      ),
    retry: false,
  });

export const useCensusDifference = (census: string, run: number, earlier: number) =>
  useQuery({
    queryKey: still('census-difference', census, run, earlier),
    queryFn: () =>
      ask(
        api.POST('/api/v1/censuses/{census}/runs/{run}/compare', {
          params: { path: { census, run } },
          body: { with: earlier, limit: 300 },
        }),
      ),
    retry: false,
  });
