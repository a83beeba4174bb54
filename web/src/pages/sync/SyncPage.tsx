import { useState } from 'react';
import { Link, useParams } from 'react-router';

import { api, ask } from '../../api/client';
import { useChange, unreadable } from '../../data/queries';
import { runShape, underWay, useSync } from '../../data/sync';
import { Complaint, Section, Trouble } from '../../parts/Bits';
import { Columns } from '../../parts/Columns';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { JobFacts } from './JobFacts';
import { RestoreSync } from './RestoreSync';
import { Sheet } from './Sheet';
import { Rehearsal, RemoveJob } from './SyncDialogs';
import { SyncForm } from './SyncForm';
import { RunNow, Runs } from './SyncRuns';

/** A sync job, live: what it does, how its run stands, what became of each object. */
export default function SyncPage() {
  const { sync = '' } = useParams();
  const s = useSync(sync);
  const [asking, setAsking] = useState<'change' | 'remove' | 'rehearse' | 'restore' | 'sheet' | null>(null);
  const toast = useToast();
  const run = useChange((anyway: boolean) =>
    ask(api.POST('/api/v1/syncs/{sync}/runs', { params: { path: { sync } }, body: { anyway } })),
  );
  const stop = useChange((id: number) =>
    ask(api.POST('/api/v1/syncs/{sync}/runs/{run}/stop', { params: { path: { sync, run: id } } })),
  );
  if (unreadable(s)) return <Trouble error={s.error} />;
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
          {d.restores ? null : (
            <>
              <button type="button" className="btn" onClick={() => setAsking('restore')}>
                Restore
              </button>
              <button type="button" className="btn" onClick={() => setAsking('sheet')}>
                Recovery sheet
              </button>
            </>
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
      {asking === 'restore' ? <RestoreSync d={d} onClose={close} /> : null}
      {asking === 'sheet' ? <Sheet sync={d.name} onClose={close} /> : null}
      {asking === 'remove' ? <RemoveJob d={d} onClose={close} /> : null}
    </>
  );
}
