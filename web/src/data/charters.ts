import { useQuery } from '@tanstack/react-query';

import { type Schemas, api, ask, forgeryHeader, problemOf } from '../api/client';
import { still } from './keys';

export type Plan = Schemas['CharterPlan'];
export type Step = Schemas['CharterStep'];
export type CharterFile = Schemas['Source'];

export const useCharters = () =>
  useQuery({
    queryKey: still('charters'),
    queryFn: async () => (await ask(api.GET('/api/v1/charters'))).charters,
    placeholderData: (d) => d,
    refetchInterval: 30_000, // what drifts away is told by nobody
  });

export const useDrift = (charter: string) =>
  useQuery({
    queryKey: still('charter-drift', charter),
    queryFn: () => ask(api.GET('/api/v1/charters/{charter}/drift', { params: { path: { charter } } })),
    placeholderData: (d) => d,
    refetchInterval: 30_000,
  });

export const useHistory = (charter: string) =>
  useQuery({
    queryKey: still('charter-history', charter),
    queryFn: async () =>
      (await ask(api.GET('/api/v1/charters/{charter}/history', { params: { path: { charter } } }))).enactments,
    placeholderData: (d) => d,
  });

export const compare = (files: CharterFile[], retire: boolean) =>
  ask(api.POST('/api/v1/charters/compare', { body: { files, retire } }));

/** How far an enactment is, a line at a time. */
export interface Progress {
  step: number;
  steps: number;
  does?: Step;
  key?: string;
  secret?: string;
  ended?: boolean;
  problem?: Schemas['Problem'];
}

/** Does what was agreed to, and tells of each step. */
export async function enact(
  agreed: { files: CharterFile[]; retire: boolean; plan: string; withObjects: boolean },
  onStep: (p: Progress) => void,
) {
  const answer = await fetch('/api/v1/charters/enact', {
    method: 'POST',
    headers: { 'Content-Type': 'application/json', ...forgeryHeader() },
    body: JSON.stringify(agreed),
  });
  if (!answer.ok || !answer.body) throw problemOf(answer.status, await answer.json().catch(() => null));
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = '';
  for (;;) {
    const { done, value } = await reader.read();
    rest += value ?? '';
    const lines = rest.split('\n');
    rest = lines.pop() ?? '';
    for (const line of lines.filter(Boolean)) {
      const p = JSON.parse(line) as Progress;
      if (p.problem) throw problemOf(p.problem.status, p.problem);
      onStep(p);
    }
    if (done) return;
  }
}
