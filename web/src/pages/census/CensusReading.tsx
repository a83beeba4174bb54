import { type FormEvent, useState } from 'react';
import { Link, useParams } from 'react-router';

import { useCensus, useCensusRows, useCensusRuns } from '../../data/census';
import { Complaint, Size, Trouble, When } from '../../parts/Bits';
import { type Column, Listing } from '../../parts/Listing';
import { things, visible } from '../../parts/format';
import { CensusDifferences } from './CensusDifferences';
import { CensusTotals } from './CensusTotals';
import { unreadable } from '../../data/queries';

type View = 'rows' | 'totals' | 'differences';

const views: [View, string][] = [
  ['rows', 'Rows'],
  ['totals', 'Totals'],
  ['differences', 'Differences'],
];

/** What a run of a census wrote: its rows, totals by a column, and differences from an earlier run. */
export default function CensusReading() {
  const { census = '', run: text = '0' } = useParams();
  const run = Number(text);
  const c = useCensus(census);
  const [view, setView] = useState<View>('rows');
  const [typed, setTyped] = useState('');
  const [where, setWhere] = useState('');
  const runs = useCensusRuns(census, text);
  const r = runs.data?.find((x) => x.id === run);
  if (unreadable(c)) return <Trouble error={c.error} />;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    setWhere(typed.trim());
  };
  return (
    <>
      <nav aria-label="Where it is">
        <Link to="/census">Census</Link> / <Link to={`/census/${census}`}>{census}</Link>
      </nav>
      <div className="pagehead">
        <div>
          <h1>
            {census}, run {run}
          </h1>
          {r ? (
            <p className="meta">
              {r.asOf ? (
                <span>
                  true of <When at={r.asOf} />
                </span>
              ) : null}
              <span>{things(r.rows, 'row')}</span>
              <span className="key">{r.to}</span>
            </p>
          ) : null}
        </div>
        <div className="row" role="group" aria-label="What is shown">
          {views.map(([v, says]) => (
            <button
              key={v}
              type="button"
              className={`btn ${v === view ? 'main' : ''}`}
              aria-pressed={v === view}
              onClick={() => setView(v)}
            >
              {says}
            </button>
          ))}
        </div>
      </div>
      {view === 'differences' ? null : (
        <form className="row mb-14" onSubmit={submit} role="search">
          <span className="field flex-1">
            <input
              className="key"
              name="where"
              value={typed}
              onChange={(e) => setTyped(e.target.value)}
              placeholder="all rows, or those that are like an expression: size over 20 MiB"
              aria-label="Rows that are like this"
              autoComplete="off"
              spellCheck={false}
            />
          </span>
          <button type="submit" className="btn">
            Show
          </button>
        </form>
      )}
      {view === 'rows' ? <Rows census={census} run={run} where={where} /> : null}
      {view === 'totals' ? <CensusTotals census={census} run={run} where={where} columns={r?.columns ?? []} /> : null}
      {view === 'differences' ? <CensusDifferences census={census} run={run} /> : null}
    </>
  );
}

const wide: Record<string, string> = { key: 'key cut max-w-420', fields: 'cut max-w-260', tags: 'cut max-w-260' };

/** A column of a census as one of a table. */
function columnOf(name: string, i: number): Column<{ row: string[] }> {
  return {
    head: name,
    figure: name === 'size',
    className: wide[name] ?? 'dim cut max-w-150',
    title: (x) => x.row[i],
    cell: (x) => {
      const v = x.row[i] ?? '';
      if (name === 'size') return v ? <Size bytes={Number(v)} /> : null;
      if (name === 'changed') return v ? <When at={v} /> : null;
      return visible(v);
    },
  };
}

function Rows({ census, run, where }: { census: string; run: number; where: string }) {
  const list = useCensusRows(census, run, where);
  if (list.error) return <Complaint error={list.error} />;
  const columns = list.data?.pages[0]?.columns ?? [];
  const rows = list.data?.pages.flatMap((p) => p.rows).map((row, i) => ({ row, i })) ?? [];
  return (
    <div className="overflow-x-auto">
      <Listing
        rows={rows}
        id={(x) => x.i}
        list={list}
        empty={list.data ? <p className="empty faint">No rows match.</p> : <p className="faint">Reading</p>}
        columns={columns.map(columnOf)}
      />
    </div>
  );
}
