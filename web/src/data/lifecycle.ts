import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { live, still } from './keys';

export type Rule = Schemas['Form'];
export type Action = Schemas['ActionForm'];
export type Scope = Schemas['ScopeForm'];
export type Tier = Schemas['TierInfo'];

export const useTiers = () =>
  useQuery({
    queryKey: live('tiers'),
    queryFn: async () => (await ask(api.GET('/api/v1/tiers'))).tiers,
    placeholderData: (d) => d,
  });

export const useRules = (bucket: string) =>
  useQuery({
    queryKey: live('rules', bucket),
    queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}/lifecycle', { params: { path: { bucket } } })),
    placeholderData: (d) => d,
  });

/** What the rules would do, with some of them replaced or added. */
export const useRehearsal = (bucket: string, rules: Rule[], enabled = true, days = 90) =>
  useQuery({
    queryKey: still('rehearsal', bucket, days, rules),
    queryFn: () =>
      ask(
        api.POST('/api/v1/buckets/{bucket}/lifecycle/rehearse', {
          params: { path: { bucket } },
          body: { rules, days },
        }),
      ),
    placeholderData: (d) => d,
    enabled,
  });

/** All that is wrong with rules. */
export const useComplaints = (bucket: string, rules: Rule[]) =>
  useQuery({
    queryKey: still('complaints', bucket, rules),
    queryFn: async () =>
      (
        await ask(
          api.POST('/api/v1/buckets/{bucket}/lifecycle/check', { params: { path: { bucket } }, body: { rules } }),
        )
      ).complaints,
    placeholderData: (d) => d,
  });

/** How old what is in a scope is, by tier. */
export const useAges = (bucket: string, scope: Scope) =>
  useQuery({
    queryKey: still('ages', bucket, scope),
    queryFn: async () =>
      (
        await ask(
          api.POST('/api/v1/buckets/{bucket}/lifecycle/ages', { params: { path: { bucket } }, body: { scope } }),
        )
      ).bars,
    placeholderData: (d) => d,
  });

export const useRuns = (bucket: string) =>
  useInfiniteQuery({
    queryKey: live('runs', bucket),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/buckets/{bucket}/lifecycle/runs', {
          params: { path: { bucket }, query: { before: pageParam, limit: 20 } },
        }),
      ),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (d) => d,
    refetchInterval: (q) =>
      q.state.data?.pages[0]?.runs.some((r) => r.state === 'waiting' || r.state === 'under way') ? 1000 : false,
  });

export const useOutcomes = (bucket: string, run: number) =>
  useInfiniteQuery({
    queryKey: live('outcomes', bucket, run),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/buckets/{bucket}/lifecycle/runs/{run}/outcomes', {
          params: { path: { bucket, run }, query: { after: pageParam, limit: 100 } },
        }),
      ),
    getNextPageParam: (p) => p.next || undefined,
    placeholderData: (d) => d,
  });

export const usePastRules = (bucket: string, enabled: boolean) =>
  useInfiniteQuery({
    queryKey: live('past-rules', bucket),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/buckets/{bucket}/lifecycle/history', {
          params: { path: { bucket }, query: { before: pageParam, limit: 20 } },
        }),
      ),
    getNextPageParam: (p) => p.next || undefined,
    enabled,
  });

/** What the rules have in store for a version. */
export const useComing = (bucket: string, key: string, version: string) =>
  useQuery({
    queryKey: live('coming', bucket, key, version),
    queryFn: () =>
      ask(api.GET('/api/v1/buckets/{bucket}/coming', { params: { path: { bucket }, query: { key, version } } })),
  });
