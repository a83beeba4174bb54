import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { type Schemas, api, ask } from '../api/client';

export const useService = () => useQuery({ queryKey: ['service'], queryFn: () => ask(api.GET('/api/v1/service')), staleTime: 60_000 });

export const useOverview = (days: number) =>
  useQuery({ queryKey: ['live', 'overview', days], queryFn: () => ask(api.GET('/api/v1/overview', { params: { query: { days } } })), placeholderData: (d) => d });

export const useBuckets = () =>
  useQuery({ queryKey: ['live', 'buckets'], queryFn: () => ask(api.GET('/api/v1/buckets', { params: { query: { limit: 1000 } } })), placeholderData: (d) => d });

export const useBucket = (bucket: string) =>
  useQuery({ queryKey: ['live', 'bucket', bucket], queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}', { params: { path: { bucket } } })), placeholderData: (d) => d });

export const useObject = (bucket: string, key: string) =>
  useQuery({ queryKey: ['live', 'object', bucket, key], queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}/object', { params: { path: { bucket }, query: { key } } })) });

/** Pages of a bucket, folded at slashes or flat. */
export const useListing = (bucket: string, prefix: string, flat: boolean) =>
  useInfiniteQuery({
    queryKey: ['live', 'listing', bucket, prefix, flat],
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(api.GET('/api/v1/buckets/{bucket}/objects', { params: { path: { bucket }, query: { prefix, delimiter: flat ? '' : '/', after: pageParam, limit: 200, metadata: true } } })),
    getNextPageParam: (page) => page.next,
    placeholderData: (d, q) => (q?.queryKey[2] === bucket ? d : undefined),
  });

/** The prefixes right beneath a prefix: the first thousand entries are looked at. */
export const usePrefixes = (bucket: string, prefix: string, open: boolean) =>
  useQuery({
    queryKey: ['live', 'prefixes', bucket, prefix],
    enabled: open,
    queryFn: async () => (await ask(api.GET('/api/v1/buckets/{bucket}/objects', { params: { path: { bucket }, query: { prefix, delimiter: '/', limit: 1000 } } }))).prefixes,
  });

export const useBucketUsage = (bucket: string) =>
  useQuery({ queryKey: ['live', 'usage', bucket], queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}/usage', { params: { path: { bucket } } })) });

/** A change, after which everything live is read again. */
export function useChange<I, O>(change: (input: I) => Promise<O>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: ['live'] }) });
}

export interface Removal {
  bucket: string;
  keys: string[];
  prefixes: string[];
}

/** What a removal would remove. */
export async function rehearse(r: Removal): Promise<Schemas['Quantity']> {
  const sum = { objects: 0, bytes: 0 };
  const add = (q: Schemas['Quantity']) => {
    sum.objects += q.objects;
    sum.bytes += q.bytes;
  };
  const path = { bucket: r.bucket };
  if (r.keys.length) add(await ask(api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { keys: r.keys, rehearse: true } })));
  for (const prefix of r.prefixes) add(await ask(api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { prefix, rehearse: true } })));
  return sum;
}

/** Removes, a thousand objects at a time; hears how many are gone. */
export async function remove(r: Removal, progress: (objects: number) => void): Promise<Schemas['Quantity']> {
  const sum = { objects: 0, bytes: 0 };
  const path = { bucket: r.bucket };
  const add = (q: Schemas['Quantity']) => {
    sum.objects += q.objects;
    sum.bytes += q.bytes;
    progress(sum.objects);
    return q;
  };
  for (let i = 0; i < r.keys.length; i += 1000) add(await ask(api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { keys: r.keys.slice(i, i + 1000) } })));
  for (const prefix of r.prefixes) while (add(await ask(api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { prefix } }))).more);
  return sum;
}

export interface Live {
  connected: boolean;
  upTo?: Date;
}

/** Hears of changes from the service and has pages read again. */
export function useLive(): Live {
  const queries = useQueryClient();
  const [live, setLive] = useState<Live>({ connected: false });
  useEffect(() => {
    let source: EventSource | undefined;
    let last = '';
    // Only the tab that is looked at listens: a browser has few connections to a service.
    const listen = () => {
      source?.close();
      source = undefined;
      last = '';
      if (document.visibilityState === 'hidden') return;
      source = new EventSource('/api/v1/events');
      source.onmessage = (m: MessageEvent<string>) => {
        const e = JSON.parse(m.data) as { completeUpTo: string; last: string };
        setLive({ connected: true, upTo: new Date(e.completeUpTo) });
        // The first word after connecting too: what happened before it was not heard.
        if (last !== e.last) void queries.invalidateQueries({ queryKey: ['live'] });
        last = e.last;
      };
      source.onerror = () => setLive((l) => ({ ...l, connected: false }));
    };
    const leave = () => source?.close();
    listen();
    document.addEventListener('visibilitychange', listen);
    addEventListener('pagehide', leave);
    addEventListener('pageshow', listen);
    return () => {
      leave();
      document.removeEventListener('visibilitychange', listen);
      removeEventListener('pagehide', leave);
      removeEventListener('pageshow', listen);
    };
  }, [queries]);
  return live;
}
