import type { Schemas } from '../../api/client';
import { Size } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { count, size, things, visible } from '../../parts/format';

/** What a run would do, by reason, with examples. */
export function Rehearsed({ found }: { found: Schemas['SyncRehearsal'] }) {
  return (
    <>
      <Listing
        rows={found.kinds}
        id={(k) => k.do + k.why}
        empty={<p className="empty faint">Both sides are empty.</p>}
        columns={[
          { head: 'Would', cell: (k) => <b className="strong">{k.do}</b> },
          { head: 'Because it is', cell: (k) => k.why, className: 'dim' },
          { head: 'Objects', figure: true, cell: (k) => count(k.sum.objects) },
          { head: 'Size', figure: true, cell: (k) => <Size bytes={k.sum.bytes} /> },
          {
            head: 'Such as',
            cell: (k) => (k.examples[0] ? visible(k.examples[0]) : null),
            className: 'key cut max-w-260',
            title: (k) => k.examples.join('\n'),
          },
        ]}
      />
      {found.atHand.objects ? (
        <p className="small dim">
          {things(found.atHand.objects, 'new object')}, {size(found.atHand.bytes)}, are at the target under other keys:
          they are copied there, and not sent.
        </p>
      ) : null}
      {found.more ? <p className="small dim">It was cut short; a run goes through all of it.</p> : null}
      {found.asks ? (
        <div className="note warn" role="status">
          A run would ask first: {found.asks}.
        </div>
      ) : null}
    </>
  );
}

/** Whether what a job takes away can be brought back at its target. */
export function Undo({ undo, mode }: { undo: Schemas['SyncRehearsal']['undo']; mode: string }) {
  const takes = mode === 'mirror' ? 'replaced or removed' : 'replaced';
  if (undo === 'unknown') return null;
  return (
    <p className={`small ${undo === 'can' ? 'dim' : 'warn'}`}>
      {undo === 'can'
        ? `The target keeps versions: what is ${takes} there can be brought back.`
        : `The target keeps no versions: what is ${takes} there is gone for good.`}
    </p>
  );
}
