import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Size } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { Shape } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { count, longDate, visible } from '../../parts/format';
import { TypeCount } from '../../parts/TypeCount';
import { still } from '../../data/keys';

interface Props {
  bucket: string;
  prefix: string;
  asOf: string;
  onClose: () => void;
  onStarted: () => void;
}

/** Rehearses a restore of a prefix to a moment, has the number typed, and orders it. */
export function RestoreDialog({ bucket, prefix, asOf, onClose, onStarted }: Props) {
  const toast = useToast();
  const [typed, setTyped] = useState('');
  const body = { kind: 'restore' as const, bucket, prefix, asOf };
  const plan = useQuery({
    queryKey: still('rehearsed-order', body),
    queryFn: () => ask(api.POST('/api/v1/orders/rehearse', { body })),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const order = useChange(() => ask(api.POST('/api/v1/orders', { body })));
  const restored = plan.data?.counts.restored ?? 0;
  const removed = plan.data?.counts.removed ?? 0;
  const n = restored + removed;
  const ready = n > 0 && (n === 1 || typed.replace(/[\s,.]/g, '') === String(n));
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Restore ${prefix ? visible(prefix) : `the bucket ${bucket}`}?`}
      about={`As it stood on ${longDate(new Date(asOf))}.`}
      footer={
        <>
          <button type="button" className="btn" autoFocus onClick={onClose}>
            Cancel
          </button>
          <button
            type="button"
            className="btn main"
            disabled={!ready || order.isPending}
            onClick={() =>
              order.mutate(undefined, {
                onSuccess: () => {
                  toast('The restore is under way; it goes on without this page');
                  onStarted();
                },
              })
            }
          >
            Restore
          </button>
        </>
      }
    >
      {plan.isPending ? <p className="dim">Comparing then with now.</p> : null}
      {plan.error ? <Complaint error={plan.error} /> : null}
      {plan.data ? (
        <>
          <table className="tight mb-12">
            <thead>
              <tr>
                <th>What it would do</th>
                <th className="num">Objects</th>
                <th className="num">Size</th>
              </tr>
            </thead>
            <tbody>
              <tr>
                <td>Bring back, or set back to what they were</td>
                <td className="num">{count(restored)}</td>
                <td className="num">
                  <Size bytes={plan.data.bytes} />
                </td>
              </tr>
              <tr>
                <td>Delete, because they were not there then</td>
                <td className="num">{count(removed)}</td>
                <td />
              </tr>
              <tr>
                <td className="dim">Leave as they are</td>
                <td className="num dim">{count(plan.data.counts.unchanged ?? 0)}</td>
                <td />
              </tr>
            </tbody>
          </table>
          <p className="row items-baseline">
            <span className="past">
              <Shape kind="past" size={11} />
            </span>
            <span>
              {n
                ? 'Nothing is lost: what it replaces stays as previous versions, and the restore is undone by one to the moment before it. No bytes are moved.'
                : 'It stands now as it stood then: there is nothing to do.'}
            </span>
          </p>
          {n > 1 ? <TypeCount n={n} of="objects" typed={typed} onType={setTyped} /> : null}
        </>
      ) : null}
      {order.error ? <Complaint error={order.error} /> : null}
    </Dialog>
  );
}
