import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';

import { type Removal, rehearse, remove, touched, useChange } from '../data/queries';
import { Complaint, Ply, Size } from './Bits';
import { Dialog } from './Dialog';
import { Shape } from './Marks';
import { useToast } from './Toasts';
import { count, size, things, visible } from './format';
import { TypeCount } from './TypeCount';
import { still } from '../data/keys';

interface Props {
  what: Removal;
  alsoBucket?: () => Promise<unknown>; // to be done when all objects are gone
  onClose: () => void;
  onDone: () => void;
}

/** Says what a removal would remove, has the number typed, removes. */
export function RemoveDialog({ what, alsoBucket, onClose, onDone }: Props) {
  const toast = useToast();
  const [typed, setTyped] = useState('');
  const [gone, setGone] = useState(0);
  const plan = useQuery({
    queryKey: still('rehearsed-removal', what),
    queryFn: () => rehearse(what),
    staleTime: 0,
    gcTime: 0,
  });
  const act = useChange(async () => {
    const q = await remove(what, setGone);
    await alsoBucket?.();
    return q;
  });
  const run = useMutation({
    mutationFn: () => act.mutateAsync(undefined),
    onSuccess: (q) => {
      toast(
        `Removed ${things(q.objects, 'object')}, ${size(q.bytes)}${q.previous ? `, ${things(q.previous, 'previous version')}` : ''}${alsoBucket ? ', and the bucket' : ''}`,
      );
      onDone();
    },
  });
  const n = plan.data ? touched(plan.data) : 0;
  const objects = plan.data?.objects ?? 0;
  const kept = plan.data?.versioning === 'on' && !what.withVersions;
  const mustType = n > (kept ? 20 : 1); // what can be brought back asks less
  const ready = plan.data !== undefined && (!mustType || typed.replace(/[\s,.]/g, '') === String(n));
  const title = plan.data
    ? `Remove ${n === objects ? things(objects, 'object') : `${things(n, 'version')} of ${things(objects, 'object')}`}${alsoBucket ? ' and the bucket' : ''}?`
    : 'What would go';
  return (
    <Dialog
      open
      onClose={() => !run.isPending && onClose()}
      title={title}
      footer={
        <>
          <button type="button" className="btn" autoFocus onClick={onClose} disabled={run.isPending}>
            Keep
          </button>
          <button
            type="button"
            className="btn harm solid"
            disabled={!ready || run.isPending}
            onClick={() => run.mutate()}
          >
            Remove {plan.data ? things(objects, 'object') : ''}
          </button>
        </>
      }
    >
      {plan.error ? <Complaint error={plan.error} /> : null}
      {plan.data ? (
        <table className="tight mb-12">
          <thead>
            <tr>
              <th>{kept ? 'Is hidden by a delete marker' : 'Goes, for good'}</th>
              <th className="num">Objects</th>
              <th className="num">Size</th>
            </tr>
          </thead>
          <tbody>
            {what.prefixes.map((p) => (
              <tr key={p}>
                <td className="key" colSpan={3}>
                  all beneath {what.bucket}/{visible(p)}
                </td>
              </tr>
            ))}
            {what.keys.slice(0, 4).map((k) => (
              <tr key={k}>
                <td className="key cut max-w-460" colSpan={3} title={visible(k)}>
                  {what.bucket}/{visible(k)}
                </td>
              </tr>
            ))}
            {what.keys.length > 4 ? (
              <tr>
                <td className="faint" colSpan={3}>
                  and {things(what.keys.length - 4, 'more key')}
                </td>
              </tr>
            ) : null}
            <tr className="total">
              <td>{what.withVersions ? 'Current objects' : 'In all'}</td>
              <td className="num">{count(objects)}</td>
              <td className="num">
                <Size bytes={plan.data.bytes} />
              </td>
            </tr>
            {plan.data.previous ? (
              <tr>
                <td>Previous versions</td>
                <td className="num">{count(plan.data.previous)}</td>
                <td className="num">
                  <Size bytes={plan.data.previousBytes} />
                </td>
              </tr>
            ) : null}
            {plan.data.markers ? (
              <tr>
                <td>Delete markers</td>
                <td className="num">{count(plan.data.markers)}</td>
                <td />
              </tr>
            ) : null}
          </tbody>
        </table>
      ) : null}
      {plan.data ? (
        <p className="row items-baseline">
          <span className={kept ? 'past' : 'warn'}>
            <Shape kind={kept ? 'past' : 'warn'} size={11} />
          </span>
          <span>
            {kept
              ? 'Versioning is on: the versions stay, and each object can be brought back from its page.'
              : what.withVersions
                ? 'All versions go too: nothing of it can be brought back.'
                : plan.data.versioning === 'paused'
                  ? 'Versioning is paused: what was written since then is gone; earlier versions stay.'
                  : 'Versioning is off for this bucket: what is removed cannot be brought back.'}
          </span>
        </p>
      ) : null}
      {mustType && !run.isPending ? (
        <TypeCount n={n} of={n === objects ? 'objects' : 'versions'} typed={typed} onType={setTyped} />
      ) : null}
      {run.isPending ? (
        <div className="row mt-12">
          <Ply share={n ? gone / n : 0} label="Removing" />
          <span className="small dim">
            {count(gone)} of {count(n)}
          </span>
        </div>
      ) : null}
      {run.error ? <Complaint error={run.error} /> : null}
    </Dialog>
  );
}
