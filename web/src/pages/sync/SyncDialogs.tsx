import { useState } from 'react';
import { useNavigate } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import type { Sync } from '../../data/sync';
import { Ask, Confirm } from '../../parts/Form';
import { Rehearsed, Undo } from './Rehearsed';

/** Compares both sides of a job, and says what a run would do. */
export function Rehearsal({ d, onClose }: { d: Sync; onClose: () => void }) {
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
        <>
          <Rehearsed found={found} />
          <Undo undo={found.undo} mode={d.mode} />
        </>
      ) : null}
    </Ask>
  );
}

/** Takes a job away. */
export function RemoveJob({ d, onClose }: { d: Sync; onClose: () => void }) {
  const navigate = useNavigate();
  return (
    <Confirm
      title={`Remove ${d.name}`}
      done={`The job ${d.name} is removed`}
      run={() => ask(api.DELETE('/api/v1/syncs/{sync}', { params: { path: { sync: d.name } } }))}
      onDone={() => void navigate('/sync')}
      onClose={onClose}
    >
      <p>
        The job goes with the record of its runs. What it wrote to <span className="key">{d.to}</span> stays.
      </p>
    </Confirm>
  );
}
