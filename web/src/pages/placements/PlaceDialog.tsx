import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Size } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Dialog } from '../../parts/Dialog';
import { useToast } from '../../parts/Toasts';
import { count, span } from '../../parts/format';
import { still } from '../../data/keys';

interface Props {
  bucket: string;
  placement: string;
  onClose: () => void;
}

/** Rehearses giving a bucket a placement, says what that costs, and orders it. */
export function PlaceDialog({ bucket, placement, onClose }: Props) {
  const toast = useToast();
  const [all, setAll] = useState(false);
  const body = { kind: 'place' as const, bucket, placement, all };
  const plan = useQuery({
    queryKey: still('rehearsed-order', body),
    queryFn: () => ask(api.POST('/api/v1/orders/rehearse', { body })),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  });
  const order = useChange(() => ask(api.POST('/api/v1/orders', { body })));
  const r = plan.data;
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Keep ${bucket} as ${placement} says?`}
      about="Objects, versions and digests stay as they are, and are read and written meanwhile."
      footer={
        <>
          <button type="button" className="btn" autoFocus onClick={onClose}>
            Cancel
          </button>
          <button
            type="button"
            className="btn main"
            disabled={!r || order.isPending}
            onClick={() =>
              order.mutate(undefined, {
                onSuccess: () => {
                  toast('It is under way, and goes on without this page');
                  onClose();
                },
              })
            }
          >
            Place it
          </button>
        </>
      }
    >
      {plan.isPending ? <p className="dim">Looking at what is there.</p> : null}
      {plan.error || order.error ? <Complaint error={plan.error ?? order.error} /> : null}
      {r ? (
        <dl className="facts">
          <dt>Written anew</dt>
          <dd>
            {count(r.counts.placed ?? 0)} objects with all versions, <Size bytes={r.bytes} />
          </dd>
          <dt>Are so already</dt>
          <dd>{count(r.counts.unchanged ?? 0)}</dd>
          <dt>Takes about</dt>
          <dd>{span(Math.max(1, r.seconds ?? 0))}</dd>
          <dt>A month, for what is moved</dt>
          <dd>
            {(r.monthBefore ?? 0).toFixed(4)} now, {(r.monthAfter ?? 0).toFixed(4)} then
          </dd>
        </dl>
      ) : null}
      {(r?.limits ?? []).map((l) => (
        <p key={l} className="small dim mt-4">
          {l}
        </p>
      ))}
      <div className="mt-12">
        <Check on={all} onChange={setAll} label="Move what was put into other tiers, too">
          Move what clients or rules put into other tiers, too
        </Check>
      </div>
    </Dialog>
  );
}
