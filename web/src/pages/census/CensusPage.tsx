import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { api, ask } from '../../api/client';
import { type Census, type CensusRun, runShape, underWay, useCensus, useCensusRuns } from '../../data/census';
import { useChange, unreadable } from '../../data/queries';
import { Complaint, Section, Size, Trouble, When } from '../../parts/Bits';
import { Columns } from '../../parts/Columns';
import { Fact, Facts } from '../../parts/Facts';
import { Confirm } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { count, size, things } from '../../parts/format';
import { CensusForm } from './CensusForm';

/** A census, live: what it lists, and its runs. */
export default function CensusPage() {
  const { census = '' } = useParams();
  const c = useCensus(census);
  const [asking, setAsking] = useState<'change' | 'remove' | null>(null);
  const toast = useToast();
  const run = useChange(() => ask(api.POST('/api/v1/censuses/{census}/runs', { params: { path: { census } } })));
  const stop = useChange((id: number) =>
    ask(api.POST('/api/v1/censuses/{census}/runs/{run}/stop', { params: { path: { census, run: id } } })),
  );
  if (unreadable(c)) return <Trouble error={c.error} />;
  if (!c.data) return <p className="faint">Reading</p>;
  const d = c.data;
  return (
    <>
      <nav aria-label="Where it is">
        <Link to="/census">Census</Link>
      </nav>
      <div className="pagehead">
        <div>
          <h1>{d.name}</h1>
          <p className="meta max-w-720">
            {d.last ? <State kind={runShape[d.last.state]}>{d.last.state}</State> : null}
            <span>
              {d.versions ? 'All versions' : 'Current objects'} of {d.from ?? 'all buckets'}, as {d.format}
            </span>
          </p>
        </div>
        <div className="row">
          {underWay(d.last) ? (
            <button type="button" className="btn" disabled={stop.isPending} onClick={() => stop.mutate(d.last!.id)}>
              Stop
            </button>
          ) : (
            <button
              type="button"
              className="btn main"
              disabled={run.isPending}
              onClick={() => run.mutate(undefined, { onSuccess: () => toast(`${d.name} is being written`) })}
            >
              Write it now
            </button>
          )}
          <button type="button" className="btn" onClick={() => setAsking('change')}>
            Change
          </button>
          <button type="button" className="btn harm" onClick={() => setAsking('remove')}>
            Remove
          </button>
        </div>
      </div>
      {run.error ? <Complaint error={run.error} /> : null}
      {stop.error ? <Complaint error={stop.error} /> : null}
      <Columns>
        <div className="grid gap-14 content-start">
          {d.last ? <LastRun census={d.name} r={d.last} /> : null}
          <Runs census={d.name} last={d.last} />
        </div>
        <Section title="The census">
          <Facts>
            <Fact name="Note">{d.note}</Fact>
            <Fact name="Where">{d.where ? <span className="key">{d.where}</span> : null}</Fact>
            <Fact name="Columns">{d.columns.join(', ')}</Fact>
            <Fact name="Into">
              <span className="key">{d.to}</span>
            </Fact>
            <Fact name="Schedule">{d.schedule ? `${d.schedule}, ${d.zone || 'UTC'}` : 'by hand'}</Fact>
            <Fact name="Next">{d.on && d.next ? <When at={d.next} /> : null}</Fact>
            <Fact name="Runs as">{d.changedBy}</Fact>
          </Facts>
        </Section>
      </Columns>
      {asking === 'change' ? <CensusForm census={d} onClose={() => setAsking(null)} /> : null}
      {asking === 'remove' ? <RemoveCensus d={d} onClose={() => setAsking(null)} /> : null}
    </>
  );
}

/** How the latest run stands. */
function LastRun({ census, r }: { census: string; r: CensusRun }) {
  return (
    <Section
      title={`Run ${r.id}`}
      aside={
        <>
          asked <When at={r.asked} /> by {r.who}
        </>
      }
      end={
        r.state === 'done' ? (
          <Link className="btn no-underline" to={`/census/${census}/runs/${r.id}`}>
            Open it
          </Link>
        ) : null
      }
    >
      <Facts>
        <Fact name="State">
          <State kind={runShape[r.state]}>{r.state}</State>
        </Fact>
        <Fact name="Says">{r.says}</Fact>
        <Fact name="True of">{r.asOf ? <When at={r.asOf} /> : null}</Fact>
        <Fact name="Lists">
          {things(r.rows, 'row')}
          {underWay(r) && r.total ? ` of about ${count(r.total)}` : null}, of objects of <Size bytes={r.objectBytes} />
        </Fact>
        <Fact name="Files">
          {r.bytes ? `${size(r.bytes)}, ` : ''}
          <span className="key">{r.to}</span>
          {underWay(r) ? `; ${size(r.sent)} sent` : null}
        </Fact>
      </Facts>
    </Section>
  );
}

function Runs({ census, last }: { census: string; last?: CensusRun }) {
  const runs = useCensusRuns(census, last ? `${last.id} ${last.state}` : '');
  if (!runs.data?.length) return null;
  return (
    <Section title="Runs" aside="latest first">
      <Listing
        rows={runs.data}
        id={(r) => r.id}
        columns={[
          {
            head: 'Run',
            cell: (r) => (r.state === 'done' ? <Link to={`/census/${census}/runs/${r.id}`}>{r.id}</Link> : r.id),
          },
          { head: 'True of', cell: (r) => (r.asOf ? <When at={r.asOf} /> : null), className: 'dim' },
          { head: 'Asked by', cell: (r) => r.who, className: 'dim' },
          { head: 'State', cell: (r) => <State kind={runShape[r.state]}>{r.state}</State> },
          { head: 'Rows', figure: true, cell: (r) => count(r.rows) },
          { head: 'Files', figure: true, cell: (r) => <Size bytes={r.bytes} /> },
          { head: '', cell: (r) => r.says, className: 'small faint max-w-260' },
        ]}
      />
    </Section>
  );
}

function RemoveCensus({ d, onClose }: { d: Census; onClose: () => void }) {
  const navigate = useNavigate();
  return (
    <Confirm
      title={`Remove ${d.name}`}
      done={`The census ${d.name} is removed`}
      run={() => ask(api.DELETE('/api/v1/censuses/{census}', { params: { path: { census: d.name } } }))}
      onDone={() => void navigate('/census')}
      onClose={onClose}
    >
      <p>
        The census goes with the record of its runs. The files that it wrote to <span className="key">{d.to}</span>{' '}
        stay.
      </p>
    </Confirm>
  );
}
