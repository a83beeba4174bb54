import { useState } from 'react';
import { Link } from 'react-router';

import { type Census, runShape, useCensuses } from '../../data/census';
import { Size, Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count } from '../../parts/format';
import { CensusForm } from './CensusForm';
import { unreadable } from '../../data/queries';

/** The censuses, with their last runs and when the next are due. */
export default function Censuses() {
  const all = useCensuses();
  const [adding, setAdding] = useState(false);
  if (unreadable(all)) return <Trouble error={all.error} />;
  return (
    <>
      <div className="pagehead">
        <h1>Census</h1>
        <button type="button" className="btn main" onClick={() => setAdding(true)}>
          New census
        </button>
      </div>
      <p className="dim mb-14 max-w-720">
        A census is a full list of objects, true of one moment, written into a bucket as files that other programs read:
        CSV, JSON lines or Parquet. It is opened, summed and compared here too.
      </p>
      <Listing
        rows={all.data ?? []}
        id={(c) => c.name}
        empty={all.data ? <p className="empty faint">There is no census yet.</p> : undefined}
        columns={[
          {
            head: 'Census',
            cell: (c) => (
              <>
                <Link to={`/census/${c.name}`}>
                  <b className="strong">{c.name}</b>
                </Link>
                {c.note ? <div className="small faint">{c.note}</div> : null}
              </>
            ),
          },
          { head: 'Lists', cell: (c) => c.from ?? 'all buckets', className: 'key cut max-w-260' },
          { head: 'Into', cell: (c) => c.to, className: 'key cut max-w-260', title: (c) => c.to },
          { head: 'As', cell: (c) => c.format, className: 'dim' },
          { head: 'Last', cell: (c) => <Last c={c} /> },
          { head: 'Rows', figure: true, cell: (c) => (c.last ? count(c.last.rows) : null) },
          { head: 'Files', figure: true, cell: (c) => (c.last ? <Size bytes={c.last.bytes} /> : null) },
          { head: 'Next', cell: (c) => (!c.on ? 'off' : c.next ? <When at={c.next} /> : 'by hand'), className: 'dim' },
        ]}
      />
      {adding ? <CensusForm onClose={() => setAdding(false)} /> : null}
    </>
  );
}

function Last({ c }: { c: Census }) {
  if (!c.last) return <span className="faint">never</span>;
  return (
    <>
      <State kind={runShape[c.last.state]}>{c.last.state}</State>{' '}
      <span className="small faint">
        <When at={c.last.ended ?? c.last.started ?? c.last.asked} />
      </span>
      {c.last.says ? <div className="small faint max-w-260">{c.last.says}</div> : null}
    </>
  );
}
