import { useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask } from '../api/client';
import { still } from './keys';

export type Clock = Schemas['ClockInfo'];
export type Jump = Schemas['JumpInfo'];

/** How the clock stands by which ages are judged, for operators. */
export const useClock = () =>
  useQuery({
    queryKey: still('clock'),
    queryFn: () => ask(api.GET('/api/v1/clock')),
    placeholderData: (d) => d,
    refetchInterval: 10_000, // the service looks as often
  });
