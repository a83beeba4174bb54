import { useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { still } from './keys';

export type Region = Schemas['RegionInfo'];

/** The regions of the house, one's own first. */
export const useRegions = () =>
  useQuery({
    queryKey: still('regions'),
    queryFn: async () => (await ask(api.GET('/api/v1/regions'))).regions,
    placeholderData: (d) => d,
    refetchInterval: 10_000, // how others stand is told by nobody
  });
