import { useState } from 'react';

import { type Placement, usePlacements } from '../../data/placements';
import { useSession } from '../../data/session';
import { Trouble } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { count, things } from '../../parts/format';
import { PlacementDefaults } from './PlacementDefaults';
import { PlacementForm } from './PlacementForm';
import { unreadable } from '../../data/queries';

/** The placements: how bytes are kept, to whom that is offered, and what is fixed for whom. */
export default function Placements() {
  const session = useSession();
  const list = usePlacements();
  const [form, setForm] = useState<Placement | 'new' | null>(null);
  if (unreadable(list)) return <Trouble error={list.error} />;
  const rows = list.data?.placements ?? [];
  return (
    <>
      <div className="pagehead">
        <h1>Placements</h1>
        {session.operator ? (
          <button type="button" className="btn main" onClick={() => setForm('new')}>
            Add a placement
          </button>
        ) : null}
      </div>
      <p className="dim mb-14 max-w-720">
        A placement says how the bytes of a bucket are kept: in which tier, in how many copies or pieces, encrypted or
        not. Whoever makes a bucket chooses from those that the account is offered.
      </p>
      {list.data?.fixed && !session.operator ? (
        <p className="mb-14">
          All buckets of {session.account} have <b className="strong">{list.data.default}</b>:{' '}
          <span className="key">{list.data.fixedBy}</span> fixed it.
        </p>
      ) : null}
      <Listing
        rows={rows}
        id={(p) => p.name}
        empty={
          <div className="empty">
            <b className="strong">No placement is offered.</b>
            <p className="dim">Buckets name a tier, or none.</p>
          </div>
        }
        columns={[
          {
            head: 'Placement',
            cell: (p) => (
              <>
                <b className="strong">{p.name}</b>
                {p.default ? <span className="faint"> default</span> : null}
                {p.note ? <div className="small faint">{p.note}</div> : null}
              </>
            ),
          },
          {
            head: 'Kept',
            cell: (p) => (
              <>
                {p.keeps}
                <div className="small faint">in the tier {p.tier}</div>
              </>
            ),
          },
          {
            head: 'May lose',
            figure: true,
            cell: (p) => (p.losses ? things(p.losses, 'volume') : <span className="dim">none</span>),
          },
          { head: 'Takes', figure: true, cell: (p) => `${p.overhead.toFixed(2)} ×`, className: 'dim' },
          { head: 'GiB and month', figure: true, cell: (p) => p.price },
          {
            head: 'What it cannot',
            cell: (p) => (
              <div className="small dim w-220 whitespace-normal">
                {(p.limits ?? []).join(' ') || 'nothing beside what others can'}
              </div>
            ),
          },
          ...(session.operator
            ? [
                { head: 'Offered to', cell: (p: Placement) => offeredTo(p) },
                { head: 'Buckets', figure: true, cell: (p: Placement) => count(p.buckets ?? 0) },
                {
                  figure: true,
                  cell: (p: Placement) => (
                    <button type="button" className="btn low" onClick={() => setForm(p)}>
                      Change
                    </button>
                  ),
                },
              ]
            : []),
        ]}
      />
      {session.operator ? <PlacementDefaults placements={rows} /> : null}
      {form ? <PlacementForm placement={form === 'new' ? undefined : form} onClose={() => setForm(null)} /> : null}
    </>
  );
}

const offeredTo = (p: Placement) =>
  p.everyone ? 'everyone' : (p.accounts ?? []).join(', ') || <span className="faint">nobody</span>;
