import { type FormEvent, useState } from 'react';
import { Link, useParams } from 'react-router';

import {
  type Difference,
  useCensus,
  useCensusDifference,
  useCensusRows,
  useCensusRuns,
  useCensusTotals,
} from '../../data/census';
import { Complaint, Size, Trouble, When } from '../../parts/Bits';
import { Choice } from '../../parts/Form';
import { type Column, Listing } from '../../parts/Listing';
import { State, type StateKind } from '../../parts/Marks';
import { count, objectPage, size, things, visible } from '../../parts/format';

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
  if (c.error && !c.data) return <Trouble error={c.error} />;
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
      {view === 'totals' ? <Totals census={census} run={run} where={where} columns={r?.columns ?? []} /> : null}
      {view === 'differences' ? <Differences census={census} run={run} /> : null}
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
        empty={list.data ? <p className="empty faint">No row is like that.</p> : <p className="faint">Reading</p>}
        columns={columns.map(columnOf)}
      />
    </div>
  );
}

function Totals({ census, run, where, columns }: { census: string; run: number; where: string; columns: string[] }) {
  const named = ['type', 'tier', 'key', ...columns].find((c) => columns.includes(c)) ?? 'key';
  const [by, setBy] = useState(columns.includes('key') ? 'key' : named);
  const t = useCensusTotals(census, run, by, where);
  const most = t.data?.totals[0]?.rows ?? 1;
  return (
    <>
      <div className="row items-end mb-14 gap-18">
        <Choice label="Summed by" value={by} onChange={setBy} options={columns.map((c) => [c, c])} width={220} />
        {t.data ? (
          <p className="dim">
            {things(t.data.rows, 'row')} by {by}: {things(t.data.values, 'value')}, {size(t.data.bytes)}
          </p>
        ) : null}
      </div>
      {t.error ? <Complaint error={t.error} /> : null}
      {t.data ? (
        <Listing
          rows={t.data.totals}
          id={(x) => x.value}
          empty={<p className="empty faint">No row is like that.</p>}
          columns={[
            {
              head: by,
              cell: (x) => visible(x.value) || <span className="faint">none</span>,
              className: 'key cut max-w-420',
            },
            {
              head: '',
              className: 'w-full',
              cell: (x) => (
                <div className="split" aria-hidden>
                  <i className="u-cur" style={{ width: `${(100 * x.rows) / most}%` }} />
                </div>
              ),
            },
            { head: 'Rows', figure: true, cell: (x) => count(x.rows) },
            { head: 'Size', figure: true, cell: (x) => <Size bytes={x.bytes} /> },
          ]}
        />
      ) : t.error ? null : (
        <p className="faint">Reading</p>
      )}
    </>
  );
}

const shapes: Record<Difference['change'], StateKind> = { came: 'good', went: 'off', changed: 'run' };

function Differences({ census, run }: { census: string; run: number }) {
  const runs = useCensusRuns(census, String(run));
  const earlier = (runs.data ?? []).filter((r) => r.state === 'done' && r.id < run);
  const [chosen, setChosen] = useState(0);
  const d = useCensusDifference(census, run, chosen);
  const of = (x: Difference, name: string) => (x.is ?? x.was)?.[d.data?.columns.indexOf(name) ?? -1] ?? '';
  return (
    <>
      {earlier.length ? (
        <div className="mb-14">
          <Choice
            label="Since"
            width={260}
            value={String(chosen)}
            onChange={(v) => setChosen(Number(v))}
            options={[
              ['0', 'the run before'],
              ...earlier.map((r): [string, string] => [String(r.id), `run ${r.id}, ${count(r.rows)} rows`]),
            ]}
          />
        </div>
      ) : null}
      {d.error ? <Complaint error={d.error} /> : null}
      {d.data ? (
        <>
          <p className="row gap-18 mb-14">
            <span>
              since <When at={d.data.was.asOf ?? d.data.was.asked} /> (run {d.data.was.id})
            </span>
            <State kind="good">{count(d.data.came)} came</State>
            <State kind="off">{count(d.data.went)} went</State>
            <State kind="run">{count(d.data.changed)} changed</State>
          </p>
          <Listing
            rows={d.data.list.map((x, i) => ({ ...x, i }))}
            id={(x) => x.i}
            empty={<p className="empty faint">Everything is as it was.</p>}
            columns={[
              { head: 'What', cell: (x) => <State kind={shapes[x.change]}>{x.change}</State> },
              {
                head: 'Object',
                className: 'key cut max-w-420',
                cell: (x) =>
                  x.change === 'went' ? (
                    visible(`${of(x, 'bucket')}/${of(x, 'key')}`)
                  ) : (
                    <Link to={objectPage(of(x, 'bucket'), of(x, 'key'), '')}>
                      {visible(`${of(x, 'bucket')}/${of(x, 'key')}`)}
                    </Link>
                  ),
              },
              { head: 'Of what', cell: (x) => <Of x={x} columns={d.data.columns} />, className: 'dim' },
            ]}
          />
          {d.data.more ? <p className="small faint mt-8">There are more than are listed.</p> : null}
        </>
      ) : d.error ? null : (
        <p className="faint">Comparing</p>
      )}
    </>
  );
}

/** What changed of an object: a column from what to what. */
function Of({ x, columns }: { x: Difference; columns: string[] }) {
  const list = (x.columns ?? []).filter((c) => c !== 'version' && c !== 'etag' && c !== 'crc64');
  return (
    <>
      {list.slice(0, 3).map((c) => (
        <div key={c} className="small cut max-w-420">
          {c}: {visible(x.was?.[columns.indexOf(c)] ?? '') || 'none'} →{' '}
          {visible(x.is?.[columns.indexOf(c)] ?? '') || 'none'}
        </div>
      ))}
      {(x.columns?.length ?? 0) > list.slice(0, 3).length ? (
        <span className="small faint">and {x.columns!.filter((c) => !list.slice(0, 3).includes(c)).join(', ')}</span>
      ) : null}
    </>
  );
}
