import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { size, things, visible } from '../../parts/format';

type Which = 'overwrite' | 'accept';

/** Decides about objects of which something newer is at a target: what it is about is said first. */
export function Settle({ rule, onClose }: { rule: string; onClose: () => void }) {
  const toast = useToast();
  const [which, setWhich] = useState<Which>('accept');
  const at = { params: { path: { rule } } };
  const send = (body: { settle: Which; rehearse?: boolean }) =>
    ask(api.POST('/api/v1/replications/{rule}/retry', { ...at, body }));
  const would = useChange(() => send({ settle: 'accept', rehearse: true }));
  const decide = useChange((settle: Which) => send({ settle }));
  const { mutate, data, isPending } = would;
  if (!data && !isPending && !would.error) mutate(undefined);
  const keys = data?.keys ?? [];
  return (
    <Ask
      title="Which one stays?"
      act={which === 'accept' ? 'Keep what is at the target' : 'Replace what is at the target'}
      busy={decide.isPending || !data?.retried}
      error={would.error ?? decide.error}
      onClose={onClose}
      onAct={() =>
        decide.mutate(which, {
          onSuccess: (x) => {
            toast(`Decided about ${things(x.retried, 'object')}`);
            onClose();
          },
        })
      }
    >
      {data ? (
        <>
          <p>
            The target holds something newer than{' '}
            <b className="strong">
              {things(data.retried, 'object')}, {size(data.bytes ?? 0)}
            </b>
            , which is no replica of the source.
          </p>
          {keys.length ? (
            <p className="small dim wrap-any">
              {keys.map(visible).join(', ')}
              {keys.length < data.retried ? ', ...' : ''}
            </p>
          ) : null}
          <fieldset className="grid gap-6">
            <legend className="small dim">What stays</legend>
            {(
              [
                ['accept', 'What is at the target, until the source changes again'],
                ['overwrite', 'What is at the source; where the target keeps versions, the replaced ones stay'],
              ] as const
            ).map(([value, says]) => (
              <label key={value} className="row gap-8">
                <input type="radio" name="settle" checked={which === value} onChange={() => setWhich(value)} />
                {says}
              </label>
            ))}
          </fieldset>
        </>
      ) : (
        <p className="faint">Counting</p>
      )}
    </Ask>
  );
}
