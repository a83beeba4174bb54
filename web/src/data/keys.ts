/**
 * Where answers are kept, by what was asked. What is named here is named once: two questions never share a place.
 * Live answers are read again when the service tells of changes; those whose first part is a bucket, by changes in it.
 */
interface OfBucket {
  bucket: [bucket: string];
  object: [bucket: string, key: string, version: string, asOf: string];
  history: [bucket: string, key: string];
  listing: [bucket: string, prefix: string, flat: boolean, asOf: string];
  prefixes: [bucket: string, prefix: string, asOf: string];
  'prefix-usage': [bucket: string, prefix: string];
  'bucket-usage': [bucket: string];
}

/** How works stand: it changes without an entry in the journal. */
interface OfWorks {
  census: [census: string];
  'census-runs': [census: string, latest: string];
  censuses: [];
  endpoints: [];
  orders: [];
  outcomes: [bucket: string, run: number];
  placements: [account: string];
  'replica-faults': [rule: string];
  'replica-lags': [rule: string];
  replicas: [bucket: string, key: string];
  replication: [rule: string];
  replications: [bucket: string];
  rules: [bucket: string];
  runs: [bucket: string];
  sync: [sync: string];
  'sync-outcomes': [sync: string, run: number, failed: boolean, state: string];
  'sync-runs': [sync: string, latest: string | undefined];
  syncs: [];
  tiers: [];
  'waiting-replicas': [rule: string, failed: boolean];
}

interface Live extends OfBucket, OfWorks {
  access: [what: string, ...of: unknown[]];
  audit: [];
  'all-buckets': [];
  'bucket-count': [];
  buckets: [];
  coming: [bucket: string, key: string, version: string];
  journal: [filter: object];
  overview: [days: number];
  'past-rules': [bucket: string];
  'prefix-map': [bucket: string, prefix: string];
  traffic: [from: string, by: string];
  unfinished: [];
  usage: [from: string];
  'usage-accounts': [from: string];
}

interface Still {
  ages: [bucket: string, scope: unknown];
  'bucket-journal': [bucket: string, revision: number, days: number];
  'census-difference': [census: string, run: number, earlier: unknown];
  'census-rows': [census: string, run: number, where: string];
  'census-totals': [census: string, run: number, by: string, where: string];
  clock: [];
  'charter-drift': [charter: string];
  'charter-history': [charter: string];
  charters: [];
  complaints: [bucket: string, rules: unknown];
  find: [expression: string, versions: boolean];
  'find-count': [expression: string, versions: boolean];
  'find-saved': [];
  'find-words': [];
  'journal-saved': [];
  posts: [];
  regions: [];
  rehearsal: [bucket: string, days: number, rules: unknown];
  'rehearsed-order': [order: unknown];
  'rehearsed-removal': [removal: unknown];
  'replication-review': [rule: unknown];
  service: [];
  session: [];
  'sync-sheet': [sync: string];
}

/** Where a live answer is kept. */
export const live = <K extends keyof Live>(what: K, ...of: Live[K]) => ['live', what, ...of] as const;

/** Where an answer is kept that no news concerns. */
export const still = <K extends keyof Still>(what: K, ...of: Still[K]) => [what, ...of] as const;

/** All that is live. */
export const everythingLive = ['live'] as const;

const ofBucket: Record<keyof OfBucket, true> = {
  bucket: true,
  object: true,
  history: true,
  listing: true,
  prefixes: true,
  'prefix-usage': true,
  'bucket-usage': true,
};

const ofWorks: Record<keyof OfWorks, true> = {
  census: true,
  'census-runs': true,
  censuses: true,
  endpoints: true,
  orders: true,
  outcomes: true,
  placements: true,
  'replica-faults': true,
  'replica-lags': true,
  replicas: true,
  replication: true,
  replications: true,
  rules: true,
  runs: true,
  sync: true,
  'sync-outcomes': true,
  'sync-runs': true,
  syncs: true,
  tiers: true,
  'waiting-replicas': true,
};

/** Whether an answer tells how works stand. */
export const tellsOfWorks = ([kind, what]: readonly unknown[]) => kind === 'live' && (what as string) in ofWorks;

/** Whether changes in some buckets concern an answer. Who may do what does not change by them. */
export const concerns = ([kind, what, bucket]: readonly unknown[], buckets: string[]) =>
  kind === 'live' && what !== 'access' && (!((what as string) in ofBucket) || buckets.includes(bucket as string));
