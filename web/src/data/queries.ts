import { useInfiniteQuery, useMutation, useQuery, useQueryClient } from '@tanstack/react-query';

import { Problem, type Schemas, api, ask } from '../api/client';
import { everythingLive, live, still } from './keys';
import { count } from '../parts/format';
import { whole } from './whole';

export const useService = () =>
  useQuery({ queryKey: still('service'), queryFn: () => ask(api.GET('/api/v1/service')), staleTime: 60_000 });

export const useOverview = (days: number) =>
  useQuery({
    queryKey: live('overview', days),
    queryFn: () => ask(api.GET('/api/v1/overview', { params: { query: { days } } })),
    placeholderData: (d) => d,
  });

export const useBuckets = () =>
  useQuery({
    queryKey: live('buckets'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/buckets', { params: { query } })),
        (p) => p.buckets,
      ),
    placeholderData: (d) => d,
  });

/** How many buckets there are, as it is shown beside their page: a thousand are counted. */
export const useBucketCount = () =>
  useQuery({
    queryKey: live('bucket-count'),
    queryFn: async () => {
      const page = await ask(api.GET('/api/v1/buckets', { params: { query: { limit: 1000 } } }));
      return count(page.buckets.length) + (page.next ? '+' : '');
    },
    placeholderData: (d) => d,
  });

/** The buckets of all regions. */
export const useAllBuckets = () =>
  useQuery({
    queryKey: live('all-buckets'),
    queryFn: () =>
      whole(
        (query) => ask(api.GET('/api/v1/buckets', { params: { query: { ...query, regions: 'all' } } })),
        (p) => p.buckets,
      ),
    placeholderData: (d) => d,
  });

export const useBucket = (bucket: string) =>
  useQuery({
    queryKey: live('bucket', bucket),
    queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}', { params: { path: { bucket } } })),
    placeholderData: (d) => d,
  });

/** An object, or a version of it. */
export const useObject = (bucket: string, key: string, version = '', asOf = '') =>
  useQuery({
    queryKey: live('object', bucket, key, version, asOf),
    queryFn: () =>
      ask(api.GET('/api/v1/buckets/{bucket}/object', { params: { path: { bucket }, query: { key, version, asOf } } })),
    placeholderData: (d, q) => (q?.queryKey[3] === key ? d : undefined),
  });

/** What became of a key, under all its names. */
export const useHistory = (bucket: string, key: string) =>
  useQuery({
    queryKey: live('history', bucket, key),
    queryFn: async () =>
      (
        await ask(
          api.GET('/api/v1/buckets/{bucket}/history', {
            params: { path: { bucket }, query: { key, followRenames: true, limit: 200 } },
          }),
        )
      ).chapters ?? [],
    placeholderData: (d, q) => (q?.queryKey[3] === key ? d : undefined),
  });

/** Pages of a bucket, folded at slashes or flat, as of a moment unless that is "". */
export const useListing = (bucket: string, prefix: string, flat: boolean, asOf: string) =>
  useInfiniteQuery({
    queryKey: live('listing', bucket, prefix, flat, asOf),
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/buckets/{bucket}/objects', {
          params: {
            path: { bucket },
            query: { prefix, delimiter: flat ? '' : '/', after: pageParam, limit: 200, metadata: true, asOf },
          },
        }),
      ),
    getNextPageParam: (page) => page.next,
    placeholderData: (d, q) => (q?.queryKey[2] === bucket ? d : undefined),
  });

/** The prefixes right beneath a prefix: the first thousand entries are looked at. */
export const usePrefixes = (bucket: string, prefix: string, asOf: string) =>
  useQuery({
    queryKey: live('prefixes', bucket, prefix, asOf),
    queryFn: async () =>
      await ask(
        api.GET('/api/v1/buckets/{bucket}/objects', {
          params: { path: { bucket }, query: { prefix, delimiter: '/', limit: 1000, asOf } },
        }),
      ),
  });

/** Usage beneath the prefixes of a level, the costliest in versions first. */
export const usePrefixUsage = (bucket: string, prefix: string) =>
  useQuery({
    queryKey: live('prefix-usage', bucket, prefix),
    queryFn: async () =>
      (
        await ask(
          api.GET('/api/v1/buckets/{bucket}/prefixes', { params: { path: { bucket }, query: { prefix, limit: 100 } } }),
        )
      ).prefixes ?? [],
    placeholderData: (d) => d,
  });

export interface JournalFilter {
  bucket: string;
  prefix: string;
  kind: string;
  who: string;
  since: string;
}

/** Pages of the journal, latest first. */
export const useJournal = (f: JournalFilter) =>
  useInfiniteQuery({
    queryKey: live('journal', f),
    initialPageParam: '',
    queryFn: ({ pageParam }) =>
      ask(
        api.GET('/api/v1/journal', {
          params: {
            query: {
              bucket: f.bucket,
              prefix: f.prefix,
              who: f.who,
              since: f.since,
              kind: f.kind ? f.kind.split(',') : undefined,
              before: pageParam,
              limit: 100,
            },
          },
        }),
      ),
    getNextPageParam: (page) => page.next,
    placeholderData: (d) => d,
  });

/** The filters of the journal that the account keeps; none for those who do not administer it. */
export const useSavedFilters = () =>
  useQuery({
    queryKey: still('journal-saved'),
    queryFn: async () => (await ask(api.GET('/api/v1/journal/saved'))).filters,
    retry: false,
    staleTime: 0,
  });

/** Unfinished multipart uploads of all buckets, oldest first. */
export const useUnfinished = () =>
  useInfiniteQuery({
    queryKey: live('unfinished'),
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      ask(api.GET('/api/v1/uploads', { params: { query: { after: pageParam, limit: 500 } } })),
    getNextPageParam: (page) => page.next,
    placeholderData: (d) => d,
    refetchInterval: 5_000, // parts leave no trace in the journal
  });

/** Work on whole prefixes that the service does: what is under way, and what ended lately. */
export const useOrders = () =>
  useQuery({
    queryKey: live('orders'),
    queryFn: async () => (await ask(api.GET('/api/v1/orders', { params: { query: { limit: 10 } } }))).orders ?? [],
    refetchInterval: (q) => (q.state.data?.some((o) => o.state === 'running') ? 700 : false),
  });

export const useBucketUsage = (bucket: string) =>
  useQuery({
    queryKey: live('bucket-usage', bucket),
    queryFn: () => ask(api.GET('/api/v1/buckets/{bucket}/usage', { params: { path: { bucket } } })),
  });

/** Whether an answer cannot be shown: none is there, or what it told of is gone or closed by now. */
export const unreadable = ({ data, error }: { data?: unknown; error: unknown }) =>
  !!error && (data === undefined || (error instanceof Problem && [403, 404].includes(error.status)));

/**
 * A change, after which everything live is read again. It has ended when that is done; one that ends at once lets who
 * removed what a page shows leave that page first.
 */
export function useChange<I, O>(change: (input: I) => Promise<O>, endsAtOnce = false) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => {
      const read = queries.invalidateQueries({ queryKey: everythingLive });
      return endsAtOnce ? undefined : read;
    },
  });
}

export interface Removal {
  bucket: string;
  keys: string[];
  prefixes: string[];
  withVersions?: boolean; // of prefixes: previous versions and delete markers too, for good
}

type Sum = Required<
  Pick<Schemas['Quantity'], 'objects' | 'bytes' | 'previous' | 'previousBytes' | 'markers' | 'versioning'>
>;

const nothing = (): Sum => ({ objects: 0, bytes: 0, previous: 0, previousBytes: 0, markers: 0, versioning: '' });

const into = (sum: Sum, q: Schemas['Quantity']) => {
  sum.objects += q.objects;
  sum.bytes += q.bytes;
  sum.previous += q.previous ?? 0;
  sum.previousBytes += q.previousBytes ?? 0;
  sum.markers += q.markers ?? 0;
  sum.versioning = q.versioning ?? sum.versioning;
};

/** All that a removal touches: objects, previous versions, delete markers. */
export const touched = (s: Sum) => s.objects + s.previous + s.markers;

/** What a removal would remove. */
export async function rehearse(r: Removal): Promise<Sum> {
  const sum = nothing();
  const add = (q: Schemas['Quantity']) => into(sum, q);
  const path = { bucket: r.bucket };
  if (r.keys.length)
    add(
      await ask(
        api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { keys: r.keys, rehearse: true } }),
      ),
    );
  for (const prefix of r.prefixes)
    add(
      await ask(
        api.POST('/api/v1/buckets/{bucket}/remove', {
          params: { path },
          body: { prefix, withVersions: r.withVersions, rehearse: true },
        }),
      ),
    );
  return sum;
}

/** Removes, a thousand objects at a time; hears how many are gone. */
export async function remove(r: Removal, progress: (objects: number) => void): Promise<Sum> {
  const sum = nothing();
  const path = { bucket: r.bucket };
  const add = (q: Schemas['Quantity']) => {
    into(sum, q);
    progress(touched(sum));
    return q;
  };
  for (let i = 0; i < r.keys.length; i += 1000)
    add(
      await ask(
        api.POST('/api/v1/buckets/{bucket}/remove', { params: { path }, body: { keys: r.keys.slice(i, i + 1000) } }),
      ),
    );
  for (const prefix of r.prefixes)
    while (
      add(
        await ask(
          api.POST('/api/v1/buckets/{bucket}/remove', {
            params: { path },
            body: { prefix, withVersions: r.withVersions },
          }),
        ),
      ).more
    );
  return sum;
}

/** How sums of prices are told: in the service's currency, and never as nothing when they are little. */
export function useMoney() {
  const { currency = '', digits = 2 } = useService().data ?? {};
  return (v: number) => {
    const unit = 10 ** -digits;
    const figure = (n: number) =>
      n.toLocaleString('en-GB', { minimumFractionDigits: digits, maximumFractionDigits: digits });
    if (v === 0) return '0';
    const says = Math.abs(v) < unit ? `${v < 0 ? 'down ' : ''}under ${figure(unit)}` : figure(v).replace('-', '−');
    return currency ? `${says} ${currency}` : says;
  };
}
