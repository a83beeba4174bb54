import { useInfiniteQuery, useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { live, still } from './keys';
import { whole } from './whole';

export type Endpoint = Schemas['EndpointInfo'];
export type Replication = Schemas['ReplicationInfo'];
export type Target = Schemas['TargetInfo'];

/** What a check that is watched tells, line by line. */
export interface EndpointStep {
  finding?: Schemas['Finding'];
  endpoint?: Endpoint;
  problem?: Schemas['Problem'];
}

/** What a comparison of both sides tells, line by line. */
export interface VerifyStep {
  target?: string;
  progress?: Schemas['VerifyInfo'];
  difference?: { key: string; what: 'missing' | 'other' | 'extra'; says: string };
  result?: Schemas['VerifyInfo'];
  problem?: Schemas['Problem'];
}

// While something is under way its progress is asked for; the rest is told by the line. What is reckoned of the last
// hour changes by the hour's going on.
const often = 2_000;
const seldom = 60_000;

/** When rules are looked at again: at once while they copy, now and then while something waits for another try. */
function lookAgain(rules: Replication[] = []) {
  const targets = rules.flatMap((r) => r.targets);
  if (targets.some((t) => t.rate || t.state === 'not yet looked at' || (t.backfill && t.backfill.state !== 'done')))
    return often;
  return targets.some((t) => t.waiting) ? 5 * often : seldom;
}

export const useEndpoints = () =>
  useQuery({
    queryKey: live('endpoints'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/endpoints', { params: { query } })),
        (p) => p.endpoints,
      ),
    placeholderData: (d) => d,
    refetchInterval: seldom,
  });

export const useReplications = (bucket = '') =>
  useQuery({
    queryKey: live('replications', bucket),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/replications', { params: { query: { ...query, bucket } } })),
        (p) => p.replications,
      ),
    placeholderData: (d) => d,
    refetchInterval: (q) => lookAgain(q.state.data),
  });

export const useReplication = (rule: string) =>
  useQuery({
    queryKey: live('replication', rule),
    queryFn: () => ask(api.GET('/api/v1/replications/{rule}', { params: { path: { rule } } })),
    placeholderData: (d) => d,
    refetchInterval: (q) => lookAgain(q.state.data && [q.state.data]),
  });

export const useFaults = (rule: string) =>
  useQuery({
    queryKey: live('replica-faults', rule),
    queryFn: async () =>
      (await ask(api.GET('/api/v1/replications/{rule}/faults', { params: { path: { rule } } }))).faults,
    placeholderData: (d) => d,
    refetchInterval: (q) => (q.state.data?.length ? 5 * often : seldom),
  });

export const useLags = (rule: string) =>
  useQuery({
    queryKey: live('replica-lags', rule),
    queryFn: async () =>
      (await ask(api.GET('/api/v1/replications/{rule}/lags', { params: { path: { rule }, query: { hours: 3 } } })))
        .lags,
    placeholderData: (d) => d,
    refetchInterval: seldom,
  });

export const useWaiting = (rule: string, failed: boolean) =>
  useInfiniteQuery({
    queryKey: live('waiting-replicas', rule, failed),
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/replications/{rule}/waiting', {
          params: { path: { rule }, query: { failed, after: pageParam, limit: 50 } },
        }),
      ),
    getNextPageParam: (p) => p.next,
    refetchInterval: (q) => (q.state.data?.pages[0]?.waiting.length ? 2 * often : seldom),
  });

/** How an object stands at each target, and what it is a replica of. */
export const useReplicas = (bucket: string, key: string, enabled: boolean) =>
  useQuery({
    queryKey: live('replicas', bucket, key),
    queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}/replicas', { params: { path: { bucket }, query: { key } } })),
    enabled,
    refetchInterval: 5 * often,
    retry: false,
  });

/** What a rule would do, what it lacks, and what is there already. */
export const useReview = (body: Schemas['NewReplication'], enabled: boolean) =>
  useQuery({
    queryKey: still('replication-review', body),
    queryFn: () => ask(api.POST('/api/v1/replications/review', { body })),
    placeholderData: (d) => d,
    enabled,
    retry: false,
  });
