import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useOutcomes, useRuns } from '../../data/lifecycle';
import { useChange, unreadable } from '../../data/queries';
import { Complaint, Section, Size, Trouble, When } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { Listing } from '../../parts/Listing';
import { State, type StateKind } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { things, visible } from '../../parts/format';

type Run = Schemas['RunInfo'];

const states: Record<Run['state'], StateKind> = {
  waiting: 'wait',
  'under way': 'run',
  asks: 'warn',
  done: 'good',
  stopped: 'off',
  failed: 'wrong',
};

const sum = (r: Run, of: 'objects' | 'bytes') => r.counts.reduce((n, c) => n + c[of], 0);

/** The record of runs: what each did; those that ask are answered here. */
export function Runs({ b, acts }: { b: Schemas['BucketInfo']; acts: boolean }) {
  const toast = useToast();
  const runs = useRuns(b.name);
  const [open, setOpen] = useState<Run | null>(null);
  const may = b.rights.includes('settings');
  const path = { bucket: b.name };
  const start = useChange(() => ask(api.POST('/api/v1/buckets/{bucket}/lifecycle/runs', { params: { path } })));
  const answer = useChange(({ run, goOn }: { run: number; goOn: boolean }) =>
    ask(
      api.POST('/api/v1/buckets/{bucket}/lifecycle/runs/{run}/answer', {
        params: { path: { ...path, run } },
        body: { goOn },
      }),
    ),
  );
  if (unreadable(runs)) return <Trouble error={runs.error} />;
  const list = runs.data?.pages.flatMap((p) => p.runs) ?? [];
  return (
    <Section
      title="Runs"
      aside="a run is kept when it had something to do"
      end={
        may && acts ? (
          <button
            type="button"
            className="btn low"
            disabled={start.isPending}
            onClick={() => start.mutate(undefined, { onSuccess: () => toast('The rules act now') })}
          >
            Act now
          </button>
        ) : null
      }
    >
      {start.error || answer.error ? <Complaint error={start.error ?? answer.error} /> : null}
      <Listing
        rows={list}
        id={(r) => r.id}
        list={runs}
        empty={<p className="empty faint">The rules have not had anything to do yet.</p>}
        columns={[
          { head: 'Run', figure: true, cell: (r) => r.id },
          { head: 'Started', cell: (r) => <When at={r.started} />, className: 'dim' },
          {
            head: 'State',
            cell: (r) => (
              <>
                <State kind={states[r.state]}>{r.state}</State>
                {r.says ? <div className="small faint">{r.says}</div> : null}
              </>
            ),
          },
          { head: 'Objects', figure: true, cell: (r) => sum(r, 'objects') },
          { head: 'Size', figure: true, cell: (r) => <Size bytes={sum(r, 'bytes')} /> },
          { head: 'By', cell: (r) => r.allowed || r.by, className: 'dim key' },
          {
            figure: true,
            cell: (r) => (
              <span className="row justify-end">
                {r.state === 'asks' && may ? (
                  <>
                    <button
                      type="button"
                      className="btn harm"
                      onClick={() => answer.mutate({ run: r.id, goOn: true })}
                      disabled={answer.isPending}
                    >
                      Let it go on
                    </button>
                    <button type="button" className="btn" onClick={() => answer.mutate({ run: r.id, goOn: false })}>
                      Stop it
                    </button>
                  </>
                ) : null}
                {r.state === 'under way' && may ? (
                  <button type="button" className="btn" onClick={() => answer.mutate({ run: r.id, goOn: false })}>
                    Stop
                  </button>
                ) : null}
                <button type="button" className="btn low" onClick={() => setOpen(r)}>
                  Record
                </button>
              </span>
            ),
          },
        ]}
      />
      {open ? <Record bucket={b.name} run={open} onClose={() => setOpen(null)} /> : null}
    </Section>
  );
}

/** What a run did to each object. */
function Record({ bucket, run, onClose }: { bucket: string; run: Run; onClose: () => void }) {
  const outcomes = useOutcomes(bucket, run.id);
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Run ${run.id}`}
      about={`By the rules at revision ${run.revision}; ages were judged by the moment at which it began. ${things(sum(run, 'objects'), 'object')}.`}
      width={860}
      footer={
        <button type="button" className="btn" onClick={onClose}>
          Close
        </button>
      }
    >
      {outcomes.error ? <Trouble error={outcomes.error} /> : null}
      <Listing
        rows={outcomes.data?.pages.flatMap((p) => p.outcomes) ?? []}
        id={(o) => `${o.key} ${o.version} ${o.did}`}
        list={outcomes}
        className="tight"
        empty={outcomes.data ? <p className="empty faint">It did nothing.</p> : undefined}
        columns={[
          { head: 'Did', cell: (o) => <span className={o.did.startsWith('move') ? '' : 'text-madder'}>{o.did}</span> },
          { head: 'Rule', cell: (o) => o.rule, className: 'dim' },
          { head: 'Size', figure: true, cell: (o) => <Size bytes={o.size} /> },
          { head: 'Key', cell: (o) => visible(o.key), className: 'key cut max-w-320', title: (o) => o.key },
          { head: 'Fault', cell: (o) => (o.fault ? <State kind="wrong">{o.fault}</State> : null) },
        ]}
      />
    </Dialog>
  );
}
