import { useState } from 'react';
import { useNavigate } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import type { Sync } from '../../data/sync';
import { Field } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { Rehearsed } from './Rehearsed';
import { useFields } from '../../parts/useFields';

/** Brings back what a job wrote, step by step: what and where to, what would come back, and then it runs. */
export function RestoreSync({ d, onClose }: { d: Sync; onClose: () => void }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [f, , fields] = useFields({ to: d.from, prefix: '', asOf: '' });
  const [made, setMade] = useState<{ job: Sync; found: Schemas['SyncRehearsal'] } | null>(null);
  const remove = (name: string) => ask(api.DELETE('/api/v1/syncs/{sync}', { params: { path: { sync: name } } }));
  const look = useChange(async () => {
    const job = await ask(api.POST('/api/v1/syncs/{sync}/restore', { params: { path: { sync: d.name } }, body: f }));
    try {
      const found = await ask(api.POST('/api/v1/syncs/{sync}/rehearse', { params: { path: { sync: job.name } } }));
      return { job, found };
    } catch (e) {
      await remove(job.name);
      throw e;
    }
  });
  const run = useChange((name: string) =>
    ask(api.POST('/api/v1/syncs/{sync}/runs', { params: { path: { sync: name } }, body: { anyway: true } })),
  );
  const close = () => {
    if (made) void remove(made.job.name); // it did not run
    onClose();
  };
  const e = look.error ?? run.error;
  const of = fields(e);
  return (
    <Ask
      title={`Bring back what ${d.name} wrote`}
      act={made ? 'Bring it back' : 'See what would come back'}
      busy={look.isPending || run.isPending}
      error={e}
      width={680}
      onClose={close}
      onAct={() =>
        made
          ? run.mutate(made.job.name, {
              onSuccess: () => {
                toast(`${made.job.name} runs`);
                void navigate(`/sync/${made.job.name}`);
              },
            })
          : look.mutate(undefined, { onSuccess: setMade })
      }
    >
      {made ? (
        <>
          <p className="dim">{made.found.says}</p>
          <Rehearsed found={made.found} />
        </>
      ) : (
        <>
          <p className="dim">
            Objects at <span className="key">{d.to}</span> are compared with where they are brought; what differs or is
            missing there is written, and nothing is removed.
          </p>
          <Field label="Bring it to" mono {...of('to')} />
          <div className="grid grid-cols-[1fr_1fr] gap-12">
            <Field label="Only keys that begin with" mono {...of('prefix')} />
            <Field
              label="As it was at"
              mono
              {...of('asOf')}
              placeholder="2d, or 2026-11-20 14:00"
              hint="Where the target keeps versions; empty: as it is now"
            />
          </div>
        </>
      )}
    </Ask>
  );
}
