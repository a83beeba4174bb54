import { useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { live } from './keys';

export type Placement = Schemas['PlacementInfo'];

/** What an account is offered; for operators who name none, all there are. */
export const usePlacements = (account?: string) =>
  useQuery({
    queryKey: live('placements', account ?? ''),
    queryFn: () => ask(api.GET('/api/v1/placements', { params: { query: account ? { account } : {} } })),
    placeholderData: (d) => d,
  });
