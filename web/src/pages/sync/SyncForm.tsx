import { RadioGroup } from 'radix-ui';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import type { Sync } from '../../data/sync';
import { Field } from '../../parts/Bits';
import { Ask, about, aboutNone } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';

const modes = [
  ['accumulate', 'New and changed objects are written; nothing is removed.'],
  ['mirror', 'The target is made equal: what is gone from the source is removed there too.'],
  ['drain', 'What has arrived, and was read back and agrees, is removed at the source.'],
] as const;

/** Adds a sync job, or changes one. */
export function SyncForm({ job, onClose }: { job?: Sync; onClose: () => void }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [f, setF] = useState({
    name: job?.name ?? '',
    from: job?.from ?? '',
    to: job?.to ?? '',
    mode: job?.mode ?? 'accumulate',
    schedule: job?.schedule ?? '',
    zone: job?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    leaveOut: (job?.leaveOut ?? []).join(' '),
    share: String(job?.guardShare ?? 10),
  });
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const body = {
    from: f.from,
    to: f.to,
    mode: f.mode,
    schedule: f.schedule.trim(),
    zone: f.schedule.trim() ? f.zone : '',
    leaveOut: f.leaveOut.split(/\s+/).filter(Boolean),
    guardShare: Number(f.share),
  };
  const save = useChange(() =>
    job
      ? ask(
          api.PATCH('/api/v1/syncs/{sync}', {
            params: { path: { sync: job.name } },
            body: { ...body, ifRevision: job.revision },
          }),
        )
      : ask(api.POST('/api/v1/syncs', { body: { ...body, name: f.name } })),
  );
  const e = save.error;
  return (
    <Ask
      title={job ? `The job ${job.name}` : 'A new job'}
      act="Save the job"
      busy={save.isPending}
      ready={!!(f.name && f.from && f.to)}
      error={aboutNone(e, 'name', 'from', 'to', 'schedule', 'zone', 'leaveOut', 'guard')}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: (s) => {
            toast(`The job ${s.name} is saved`);
            onClose();
            if (!job) void navigate(`/sync/${s.name}`);
          },
        })
      }
    >
      {job ? null : (
        <Field label="Name" value={f.name} onChange={set('name')} name="name" autoFocus error={about(e, 'name')} />
      )}
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="From"
          mono
          value={f.from}
          onChange={set('from')}
          name="from"
          placeholder="attic"
          error={about(e, 'from')}
          hint="BUCKET/PREFIX/, @ENDPOINT/BUCKET/PREFIX/, or a folder that begins with /"
        />
        <Field
          label="To"
          mono
          value={f.to}
          onChange={set('to')}
          name="to"
          placeholder="@old-mill/attic"
          error={about(e, 'to')}
        />
      </div>
      <RadioGroup.Root
        className="grid gap-6"
        value={f.mode}
        onValueChange={(v) => setF({ ...f, mode: v as Sync['mode'] })}
        aria-label="Mode"
      >
        {modes.map(([m, says]) => (
          <label key={m} className="row items-start cursor-pointer">
            <RadioGroup.Item value={m} className={`radio ${f.mode === m ? 'on' : ''} mt-3`} aria-label={m} />
            <span>
              <b className="strong">{m}</b> <span className="small dim">{says}</span>
            </span>
          </label>
        ))}
      </RadioGroup.Root>
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="Schedule; empty to run it by hand"
          mono
          value={f.schedule}
          onChange={set('schedule')}
          name="schedule"
          placeholder="30 2 * * *"
          error={about(e, 'schedule')}
          hint="Five fields, or @hourly, @daily, @weekly, @monthly"
        />
        <Field label="Time zone" value={f.zone} onChange={set('zone')} name="zone" error={about(e, 'zone')} />
      </div>
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="Leave out keys like"
          mono
          value={f.leaveOut}
          onChange={set('leaveOut')}
          name="leaveOut"
          placeholder="*.tmp"
          error={about(e, 'leaveOut')}
        />
        <Field
          label="Ask above, % of the target"
          value={f.share}
          onChange={set('share')}
          name="share"
          error={about(e, 'guard')}
          hint="That would be removed or replaced; above 1,000 objects in any case."
        />
      </div>
    </Ask>
  );
}
