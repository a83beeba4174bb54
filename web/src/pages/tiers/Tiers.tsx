import { useState } from 'react';

import { type Tier, useTiers } from '../../data/lifecycle';
import { useSession } from '../../data/session';
import { Size, Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { size, span, things } from '../../parts/format';
import { TierSwatch } from '../lifecycle/TierSwatch';
import { TierForm } from './TierForm';
import { TierVolumes } from './TierVolumes';
import { unreadable } from '../../data/queries';

/** The tiers: where bodies are kept, in how many copies, at what price, and how much room there is. */
export default function Tiers() {
  const session = useSession();
  const tiers = useTiers();
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState<Tier | null>(null);
  if (unreadable(tiers)) return <Trouble error={tiers.error} />;
  return (
    <>
      <div className="pagehead">
        <h1>Tiers</h1>
        {session.operator ? (
          <button type="button" className="btn main" onClick={() => setAdding(true)}>
            Add a tier
          </button>
        ) : null}
      </div>
      <p className="dim mb-14 max-w-720">
        A tier is a place for the bytes of versions. Rules move what ages to cheaper ones; a put, a copy or a bucket can
        name one.
      </p>
      <Listing
        rows={tiers.data ?? []}
        id={(t) => t.name}
        columns={[
          {
            head: 'Tier',
            cell: (t) => (
              <>
                <TierSwatch tier={t.name} tiers={tiers.data ?? []} /> <b className="strong">{t.name}</b>
                {t.note ? <div className="small faint">{t.note}</div> : null}
              </>
            ),
          },
          { head: 'GiB and month', figure: true, cell: (t) => t.price },
          { head: '1,000 requests', figure: true, cell: (t) => t.requests },
          { head: 'Kept', cell: (t) => <Keeps t={t} />, className: 'dim' },
          { head: 'Read', cell: (t) => read(t), className: 'dim' },
          {
            head: 'Shortest stay',
            figure: true,
            cell: (t) => (t.shortestStay ? things(t.shortestStay, 'day') : 'none'),
            className: 'dim',
          },
          { head: 'Versions', figure: true, cell: (t) => (t.bytes === undefined ? null : <Size bytes={t.bytes} />) },
          {
            figure: true,
            cell: (t) =>
              session.operator ? (
                <button type="button" className="btn low" onClick={() => setOpen(t)}>
                  Change
                </button>
              ) : null,
          },
        ]}
      />
      {session.operator ? <TierVolumes tiers={tiers.data ?? []} /> : null}
      {adding ? <TierForm onClose={() => setAdding(false)} /> : null}
      {open ? <TierForm tier={open} onClose={() => setOpen(null)} /> : null}
    </>
  );
}

/** How a tier keeps bodies, and what of that is not so now. */
function Keeps({ t }: { t: Tier }) {
  return (
    <>
      {t.keeps}
      <div className="small faint">
        {t.losses ? `${things(t.losses, 'volume')} may be lost` : t.elsewhere ? '' : 'no volume may be lost'}
      </div>
      {(t.warnings ?? []).map((w) => (
        <div key={w} className="small">
          <State kind="warn">{w}</State>
        </div>
      ))}
      {t.owed ? (
        <div className="small">
          <State kind="wait">{things(t.owed, 'body lacks', 'bodies lack')} pieces</State>
        </div>
      ) : null}
      {t.repair ? <Repair r={t.repair} /> : null}
    </>
  );
}

/** The last repair of a tier, or how far it is. */
function Repair({ r }: { r: NonNullable<Tier['repair']> }) {
  const made = things(r.made, 'copy or piece', 'copies and pieces');
  if (r.finished)
    return (
      <div className="small faint">
        repaired <When at={r.finished} />: {made} made
        {r.damaged ? `, ${things(r.damaged, 'body is', 'bodies are')} lost` : ''}
      </div>
    );
  return (
    <div className="small">
      <State kind="wait">
        repair: {size(r.bytes)} of {size(r.of)} read, {made} made
      </State>
    </div>
  );
}

export const read = (t: Tier) =>
  t.restore ? `restored in ${span(t.restore.seconds)}, for ${things(t.restore.days, 'day')}` : 'at once';
