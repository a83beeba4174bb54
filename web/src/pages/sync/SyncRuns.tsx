import { useState } from 'react';

import { type SyncRun, runShape, underWay, useOutcomes, useSyncRuns } from '../../data/sync';
import { Section, Size, When } from '../../parts/Bits';
import { Fact, Facts } from '../../parts/Facts';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count, size, things, visible } from '../../parts/format';
import { span } from '../replication/states';

/** How fast a run sends, and how long it takes yet. */
function paceOf(r: SyncRun) {
  const seconds = r.started ? (Date.now() - Date.parse(r.started)) / 1000 : 0;
  if (seconds < 2 || !r.moved) return '';
  const rate = r.moved / seconds;
  const left = Math.max(0, r.total.bytes - r.moved) / rate;
  return `, ${size(rate)}/s${left ? `, ${span(left)} left` : ''}`;
}

/** How the latest run stands, and what became of objects in it. */
export function RunNow({ sync, r }: { sync: string; r: SyncRun }) {
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
            {size(r.written.bytes)} of {size(r.total.bytes)} written, {size(r.moved)} sent{paceOf(r)}
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
        <Fact name="Not sent">
          {r.atHand.objects ? `${count(r.atHand.objects)} of them: copied at the target from another key` : null}
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

/** The runs of a job. */
export function Runs({ sync, last }: { sync: string; last?: SyncRun }) {
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
