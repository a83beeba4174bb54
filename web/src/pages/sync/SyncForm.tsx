import { RadioGroup } from 'radix-ui';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import type { Sync } from '../../data/sync';
import { Field } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { WhereField } from '../../parts/WhereField';
import { Rehearsed, Undo } from './Rehearsed';
import { Sealing, type SealingChoice, sealingAsked, sealingReady } from './Sealing';
import { useFields } from '../../parts/useFields';
import { figure } from '../../parts/format';

const modes = [
  ['accumulate', 'New and changed objects are written; nothing is removed.'],
  ['mirror', 'The target is made equal: what is gone from the source is removed there too.'],
  ['drain', 'What has arrived, and was read back and agrees, is removed at the source.'],
] as const;

/** Adds a sync job, or changes one. */
export function SyncForm({ job, onClose }: { job?: Sync; onClose: () => void }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [f, set, fields] = useFields({
    name: job?.name ?? '',
    from: job?.from ?? '',
    to: job?.to ?? '',
    mode: job?.mode ?? 'accumulate',
    schedule: job?.schedule ?? '',
    zone: job?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
    like: (job?.like ?? []).join(' '),
    leaveOut: (job?.leaveOut ?? []).join(' '),
    bandwidth: (job?.bandwidth ?? []).join('; '),
    where: job?.where ?? '',
    share: String(job?.guardShare ?? 10),
  });
  const was = job?.sealing ?? 'none';
  const [seal, setSeal] = useState<SealingChoice>({ sealing: was, passphrase: '', again: '', kept: false });
  const body = {
    from: f.from,
    to: f.to,
    mode: f.mode,
    schedule: f.schedule.trim(),
    zone: f.schedule.trim() || f.bandwidth.trim() ? f.zone : '',
    like: f.like.split(/\s+/).filter(Boolean),
    leaveOut: f.leaveOut.split(/\s+/).filter(Boolean),
    bandwidth: f.bandwidth
      .split(';')
      .map((l) => l.trim())
      .filter(Boolean),
    guardShare: figure(f.share),
    where: f.where,
  };
  const save = useChange(() =>
    job
      ? ask(
          api.PATCH('/api/v1/syncs/{sync}', {
            params: { path: { sync: job.name } },
            body: { ...body, ...sealingAsked(seal, was), ifRevision: job.revision },
          }),
        )
      : ask(api.POST('/api/v1/syncs', { body: { ...body, ...sealingAsked(seal, was), name: f.name } })),
  );
  const look = useChange(() => ask(api.POST('/api/v1/syncs/rehearse', { body: { ...body, sealing: seal.sealing } })));
  const e = save.error ?? look.error;
  const of = fields(e);
  return (
    <Ask
      title={job ? `The job ${job.name}` : 'A new job'}
      act="Save the job"
      busy={save.isPending}
      ready={!!(f.name && f.from && f.to) && sealingReady(seal, was)}
      width={640}
      error={e}
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
      {job ? null : <Field label="Name" {...of('name')} autoFocus />}
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="From"
          mono
          {...of('from')}
          placeholder="attic"
          hint="BUCKET/PREFIX/, @ENDPOINT/BUCKET/PREFIX/, or a folder that begins with /"
        />
        <Field label="To" mono {...of('to')} placeholder="@old-mill/attic" />
      </div>
      <RadioGroup.Root
        className="grid gap-6"
        value={f.mode}
        onValueChange={(v) => set({ mode: v as Sync['mode'] })}
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
          {...of('schedule')}
          placeholder="30 2 * * *"
          hint="Five fields, or @hourly, @daily, @weekly, @monthly"
        />
        <Field label="Time zone" {...of('zone')} />
      </div>
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field label="Only keys like" mono {...of('like')} placeholder="2026/*" />
        <Field label="Leave out keys like" mono {...of('leaveOut')} placeholder="*.tmp" />
        <Field label="Bytes a second at the most" mono {...of('bandwidth')} placeholder="08:00-18:00 1MiB; 8MiB" />
        <Field
          label="Ask above, % of the target"
          {...of('share', 'guard')}
          hint="That would be removed or replaced; above 1,000 objects in any case."
        />
      </div>
      <WhereField {...of('where')} />
      <Sealing value={seal} was={was} error={e} onChange={setSeal} />
      <div className="row">
        <button
          type="button"
          className="btn"
          disabled={!f.from || !f.to || look.isPending}
          onClick={() => look.mutate(undefined)}
        >
          Rehearse it
        </button>
        <span className="small faint">Compares both sides; nothing is written.</span>
      </div>
      {look.data ? (
        <>
          <p className="dim">{look.data.says}</p>
          {seal.sealing === 'none' ? <Rehearsed found={look.data} /> : null}
          <Undo undo={look.data.undo} mode={f.mode} />
        </>
      ) : null}
    </Ask>
  );
}
