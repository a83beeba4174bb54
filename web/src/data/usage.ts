import { useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { live } from './keys';

export type BucketUsage = Schemas['BucketUsage'];

export const useUsage = (from: string) =>
  useQuery({
    queryKey: live('usage', from),
    queryFn: () => ask(api.GET('/api/v1/usage', { params: { query: { from } } })),
    placeholderData: (d) => d,
  });

export const useTraffic = (from: string, by: 'bucket' | 'who' | 'day') =>
  useQuery({
    queryKey: live('traffic', from, by),
    queryFn: async () => (await ask(api.GET('/api/v1/usage/traffic', { params: { query: { from, by } } }))).traffic,
    placeholderData: (d) => d,
  });

/** What each account keeps, for operators. */
export const useAccountUsage = (from: string, wanted: boolean) =>
  useQuery({
    queryKey: live('usage-accounts', from),
    queryFn: async () => (await ask(api.GET('/api/v1/usage/accounts', { params: { query: { from } } }))).accounts,
    placeholderData: (d) => d,
    enabled: wanted,
  });
