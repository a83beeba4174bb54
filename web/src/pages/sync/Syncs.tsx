import { useState } from 'react';
import { Link } from 'react-router';

import { type Sync, runShape, useSyncs } from '../../data/sync';
import { Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count } from '../../parts/format';
import { SyncForm } from './SyncForm';
import { unreadable } from '../../data/queries';

/** The sync jobs, with their last runs and when the next are due. */
export default function Syncs() {
  const syncs = useSyncs();
  const [adding, setAdding] = useState(false);
  if (unreadable(syncs)) return <Trouble error={syncs.error} />;
  return (
    <>
      <div className="pagehead">
        <h1>Sync</h1>
        <button type="button" className="btn main" onClick={() => setAdding(true)}>
          New job
        </button>
      </div>
      <p className="dim mb-14 max-w-720">
        A job brings one side to another: a bucket here, one at an endpoint, or a folder of the service’s machine. It
        can be rehearsed, and asks before it takes much away.
      </p>
      <Listing
        rows={syncs.data ?? []}
        id={(s) => s.name}
        empty={syncs.data ? <p className="empty faint">There is no job yet.</p> : undefined}
        columns={[
          {
            head: 'Job',
            cell: (s) => (
              <>
                <Link to={`/sync/${s.name}`}>
                  <b className="strong">{s.name}</b>
                </Link>
                {s.note ? <div className="small faint">{s.note}</div> : null}
              </>
            ),
          },
          { head: 'Mode', cell: (s) => s.mode, className: 'dim' },
          { head: 'From', cell: (s) => s.from, className: 'key cut max-w-260', title: (s) => s.from },
          { head: 'To', cell: (s) => s.to, className: 'key cut max-w-260', title: (s) => s.to },
          { head: 'Last run', cell: (s) => <Last s={s} /> },
          { head: 'Wrote', figure: true, cell: (s) => (s.last ? count(s.last.written.objects) : null) },
          { head: 'Failed', figure: true, cell: (s) => (s.last?.failed ? count(s.last.failed) : null) },
          { head: 'Next', cell: (s) => (!s.on ? 'off' : s.next ? <When at={s.next} /> : 'by hand'), className: 'dim' },
        ]}
      />
      {adding ? <SyncForm onClose={() => setAdding(false)} /> : null}
    </>
  );
}

function Last({ s }: { s: Sync }) {
  if (!s.last) return <span className="faint">never</span>;
  return (
    <>
      <State kind={runShape[s.last.state]}>{s.last.state}</State>{' '}
      <span className="small faint">
        <When at={s.last.ended ?? s.last.started ?? s.last.asked} />
      </span>
      {s.last.says ? <div className="small faint max-w-260">{s.last.says}</div> : null}
    </>
  );
}
