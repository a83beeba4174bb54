import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { type Sync, type SyncRun, runShape, underWay, useOutcomes, useSync, useSyncRuns } from '../../data/sync';
import { Complaint, Section, Size, Trouble, When } from '../../parts/Bits';
import { Columns } from '../../parts/Columns';
import { Fact, Facts } from '../../parts/Facts';
import { Ask } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { count, size, things, visible } from '../../parts/format';
import { SyncForm } from './SyncForm';

/** A sync job, live: what it does, how its run stands, what became of each object. */
export default function SyncPage() {
  const { sync = '' } = useParams();
  const s = useSync(sync);
  const [asking, setAsking] = useState<'change' | 'remove' | 'rehearse' | null>(null);
  const toast = useToast();
  const run = useChange((anyway: boolean) =>
    ask(api.POST('/api/v1/syncs/{sync}/runs', { params: { path: { sync } }, body: { anyway } })),
  );
  const stop = useChange((id: number) =>
    ask(api.POST('/api/v1/syncs/{sync}/runs/{run}/stop', { params: { path: { sync, run: id } } })),
  );
  if (s.error && !s.data) return <Trouble error={s.error} />;
  if (!s.data) return <p className="faint">Reading</p>;
  const d = s.data;
  const close = () => setAsking(null);
  const open = underWay(d.last);
  const asks = d.last?.state === 'asking';
  return (
    <>
      <nav aria-label="Where it is">
        <Link to="/sync">Sync</Link>
      </nav>
      <div className="pagehead">
        <div>
          <h1>{d.name}</h1>
          <p className="meta max-w-720">
            {d.last ? <State kind={runShape[d.last.state]}>{d.last.state}</State> : null}
            <span>{d.says}</span>
          </p>
        </div>
        <div className="row">
          {open || asks ? null : (
            <button
              type="button"
              className="btn main"
              disabled={run.isPending}
              onClick={() => run.mutate(false, { onSuccess: () => toast(`${d.name} is asked to run`) })}
            >
              Run now
            </button>
          )}
          {open || asks ? (
            <button type="button" className="btn" disabled={stop.isPending} onClick={() => stop.mutate(d.last!.id)}>
              Stop
            </button>
          ) : null}
          <button type="button" className="btn" onClick={() => setAsking('rehearse')}>
            Rehearse
          </button>
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
      {asks ? (
        <div className="note warn row mb-14" role="status">
          <span className="flex-1">
            <b className="strong">It asks.</b> {d.last!.says}.{' '}
            {d.last!.written.objects + d.last!.removed.objects ? '' : 'Nothing was changed yet.'}
          </span>
          <button type="button" className="btn harm" disabled={run.isPending} onClick={() => run.mutate(true)}>
            Let it go on
          </button>
        </div>
      ) : null}
      <Columns>
        <div className="grid gap-14 content-start">
          {d.last ? <RunNow sync={d.name} r={d.last} /> : null}
          <Runs sync={d.name} last={d.last} />
        </div>
        <div className="grid gap-14 content-start">
          <Section title="The job">
            <JobFacts d={d} />
          </Section>
        </div>
      </Columns>
      {asking === 'change' ? <SyncForm job={d} onClose={close} /> : null}
      {asking === 'rehearse' ? <Rehearsal d={d} onClose={close} /> : null}
      {asking === 'remove' ? <RemoveJob d={d} onClose={close} /> : null}
    </>
  );
}

function JobFacts({ d }: { d: Sync }) {
  return (
    <Facts>
      <Fact name="From">
        <span className="key wrap-any">{d.from}</span>
      </Fact>
      <Fact name="To">
        <span className="key wrap-any">{d.to}</span>
      </Fact>
      <Fact name="Mode">{d.mode}</Fact>
      <Fact name="Schedule">
        {d.schedule ? (
          <>
            <span className="key">{d.schedule}</span>, {d.zone || 'UTC'}
          </>
        ) : (
          'by hand'
        )}
      </Fact>
      <Fact name="Next">{d.next && d.on ? <When at={d.next} /> : null}</Fact>
      <Fact name="Compared by">{d.by}</Fact>
      <Fact name="Leaves out">{d.leaveOut?.length ? <span className="key">{d.leaveOut.join(' ')}</span> : null}</Fact>
      <Fact name="Asks above">
        {d.guardShare} % of the target, or {things(d.guardMost, 'object')}
      </Fact>
      <Fact name="Runs as">{d.changedBy}</Fact>
      <Fact name="Note">{d.note}</Fact>
    </Facts>
  );
}

/** How the latest run stands, and what became of objects in it. */
function RunNow({ sync, r }: { sync: string; r: SyncRun }) {
  const [failed, setFailed] = useState(false);
  const outcomes = useOutcomes(sync, r.id, failed, `${r.state} ${r.written.objects} ${r.failed}`);
  const rows = outcomes.data?.pages.flatMap((p) => p.outcomes) ?? [];
  const share = r.total.bytes ? Math.min(100, (100 * r.moved) / r.total.bytes) : 0;
  return (
    <Section
      title={`Run ${r.id}`}
      aside={
        <>
          asked <When at={r.asked} /> by {r.who}
        </>
      }
    >
      {underWay(r) ? (
        <div className="pt-12">
          <div className="split" role="img" aria-label={`${Math.round(share)} % of the bytes are sent`}>
            <i className="u-cur" style={{ width: `${share}%` }} />
            <i className="flex-1 border-b-[1.5px] border-dotted border-b-edge h-[7.5px]" />
          </div>
          <p className="small dim mt-4">
            {size(r.written.bytes)} of {size(r.total.bytes)} written, {size(r.moved)} sent
          </p>
        </div>
      ) : null}
      <Facts>
        <Fact name="State">
          <State kind={runShape[r.state]}>{r.state}</State>
        </Fact>
        <Fact name="Says">{r.says}</Fact>
        <Fact name="Wrote">
          {things(r.written.objects, 'object')}, <Size bytes={r.written.bytes} />
        </Fact>
        <Fact name="The same">{things(r.same.objects, 'object')}</Fact>
        <Fact name="Removed">{r.removed.objects ? `${count(r.removed.objects)} at the target` : null}</Fact>
        <Fact name="Drained">{r.drained.objects ? `${count(r.drained.objects)} at the source` : null}</Fact>
        <Fact name="Failed">
          {r.failed ? (
            <button type="button" className="btn low" onClick={() => setFailed(!failed)}>
              {count(r.failed)}: {failed ? 'show all' : 'show them alone'}
            </button>
          ) : null}
        </Fact>
        <Fact name="Not removed">{r.notRemoved ? `${count(r.notRemoved)}, because something failed` : null}</Fact>
      </Facts>
      {rows.length ? (
        <div className="mt-14">
          <Listing
            rows={rows.map((o, i) => ({ ...o, i }))}
            id={(o) => o.i}
            list={outcomes}
            columns={[
              { head: 'Object', cell: (o) => visible(o.key), className: 'key cut max-w-420', title: (o) => o.key },
              { head: 'What was done', cell: (o) => `${o.do}: ${o.why}`, className: 'dim' },
              { head: 'Size', figure: true, cell: (o) => <Size bytes={o.bytes} /> },
              { head: '', cell: (o) => (o.says ? <State kind="wrong">{o.says}</State> : null) },
            ]}
          />
        </div>
      ) : null}
    </Section>
  );
}

function Runs({ sync, last }: { sync: string; last?: SyncRun }) {
  const runs = useSyncRuns(sync, last ? `${last.id} ${last.state}` : '');
  if (!runs.data?.length) return <p className="faint">It has not run yet.</p>;
  return (
    <Section title="Runs" aside="latest first">
      <Listing
        rows={runs.data}
        id={(r) => r.id}
        columns={[
          { head: 'Run', figure: true, cell: (r) => r.id },
          { head: 'Asked', cell: (r) => <When at={r.asked} />, className: 'dim' },
          { head: 'By', cell: (r) => r.who, className: 'dim' },
          { head: 'State', cell: (r) => <State kind={runShape[r.state]}>{r.state}</State> },
          { head: 'Wrote', figure: true, cell: (r) => count(r.written.objects) },
          { head: 'Removed', figure: true, cell: (r) => (r.removed.objects ? count(r.removed.objects) : null) },
          { head: 'Failed', figure: true, cell: (r) => (r.failed ? count(r.failed) : null) },
        ]}
      />
    </Section>
  );
}

/** What a run would do, by reason, with examples. */
function Rehearsal({ d, onClose }: { d: Sync; onClose: () => void }) {
  const [found, setFound] = useState<Schemas['SyncRehearsal'] | null>(null);
  const rehearse = useChange(() =>
    ask(api.POST('/api/v1/syncs/{sync}/rehearse', { params: { path: { sync: d.name } } })),
  );
  return (
    <Ask
      title={`What ${d.name} would do`}
      act={found ? 'Look again' : 'Compare both sides'}
      busy={rehearse.isPending}
      error={rehearse.error}
      width={680}
      onClose={onClose}
      onAct={() => rehearse.mutate(undefined, { onSuccess: setFound })}
    >
      <p className="dim">Both sides are listed and compared; nothing is written.</p>
      {found ? (
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
      ) : null}
      {found?.asks ? (
        <div className="note warn" role="status">
          A run would ask first: {found.asks}.
        </div>
      ) : null}
    </Ask>
  );
}

function RemoveJob({ d, onClose }: { d: Sync; onClose: () => void }) {
  const navigate = useNavigate();
  const toast = useToast();
  const remove = useChange(() => ask(api.DELETE('/api/v1/syncs/{sync}', { params: { path: { sync: d.name } } })));
  return (
    <Ask
      title={`Remove ${d.name}`}
      act="Remove it"
      harm
      busy={remove.isPending}
      error={remove.error}
      onClose={onClose}
      onAct={() =>
        remove.mutate(undefined, {
          onSuccess: () => {
            toast(`The job ${d.name} is removed`);
            void navigate('/sync');
          },
        })
      }
    >
      <p>
        The job goes with the record of its runs. What it wrote to <span className="key">{d.to}</span> stays.
      </p>
    </Ask>
  );
}
