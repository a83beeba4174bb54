import { useNavigate } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { type Replication, useReview } from '../../data/replication';
import { useBuckets, useChange } from '../../data/queries';
import { useSettled } from '../../data/settled';
import { Field } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { Shape } from '../../parts/Marks';
import { same } from '../../parts/Select';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { figure, size, things } from '../../parts/format';
import { WhereField } from '../../parts/WhereField';
import { type TargetDraft, Targets, noTarget } from './Targets';
import { useFields } from '../../parts/useFields';

/** Adds a rule, or changes one, with what it would do and what it lacks beside it. */
export function RuleForm({ rule, onClose }: { rule?: Replication; onClose: () => void }) {
  const toast = useToast();
  const navigate = useNavigate();
  const buckets = useBuckets();
  const [f, set, fields] = useFields({
    name: rule?.name ?? '',
    bucket: rule?.bucket ?? '',
    prefix: rule?.prefix ?? '',
    tags: Object.entries(rule?.tags ?? {})
      .map(([k, v]) => `${k}=${v}`)
      .join(', '),
    where: rule?.where ?? '',
    targets: rule?.targets.map((t) => ({
      address: t.address,
      class: t.class ?? '',
      sealed: t.sealed ?? false,
    })) ?? [noTarget],
    priority: rule ? String(rule.priority) : '',
    deleteMarkers: rule?.deleteMarkers ?? true,
    removals: rule?.removals ?? false,
    onward: rule?.onward ?? false,
    percent: rule?.lagTarget ? String(+rule.lagTarget.percent.toFixed(3)) : '',
    seconds: rule?.lagTarget ? String(rule.lagTarget.seconds) : '',
    existing: '' as '' | 'leave' | 'backfill',
    mend: false,
  });
  const aimed = f.targets.some((t) => t.address.trim());
  const body = bodyOf(f);
  const settled = useSettled(JSON.stringify(body), 300);
  const review = useReview(
    { ...(JSON.parse(settled) as typeof body), existing: 'leave' },
    !!f.name && !!f.bucket && aimed,
  );
  const save = useChange(() =>
    rule
      ? ask(
          api.PATCH('/api/v1/replications/{rule}', {
            params: { path: { rule: rule.name } },
            body: { ...changesOf(f), ifRevision: rule.revision },
          }),
        )
      : ask(api.POST('/api/v1/replications', { body: { ...body, existing: f.existing || 'leave' } })),
  );
  const e = save.error ?? review.error;
  const of = fields(e);
  const mendable = review.data?.lacks.some((l) => l.mends);
  return (
    <Ask
      title={rule ? `The rule ${rule.name}` : 'New replication rule'}
      act={rule ? 'Save' : 'Save the rule'}
      width={720}
      busy={save.isPending}
      ready={!!f.name && !!f.bucket && aimed && (!!rule || !!f.existing)}
      error={e}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: (r) => {
            toast(`The rule ${r.name} is saved`);
            onClose();
            void navigate(`/replication/${encodeURIComponent(r.name)}`);
          },
        })
      }
    >
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        {rule ? null : (
          <>
            <Field label="Name" {...of('name')} autoFocus />
            <Choice
              label="From the bucket"
              value={f.bucket}
              onChange={(bucket) => set({ bucket })}
              options={[['', 'choose'], ...same((buckets.data ?? []).map((b) => b.name))] as [string, string][]}
            />
          </>
        )}
        <Field label="Only beneath" mono {...of('prefix')} placeholder="the whole bucket" />
        <Field label="Only with tags" {...of('tags')} placeholder="name=value, name=value" />
      </div>
      <WhereField {...of('where')} />
      <Targets targets={f.targets} onChange={(targets) => set({ targets })} error={e} />
      <div className="row gap-22">
        <Switch on={f.deleteMarkers} onChange={(deleteMarkers) => set({ deleteMarkers })}>
          Delete markers go along
        </Switch>
        <Switch on={f.removals} onChange={(removals) => set({ removals })}>
          Removals that leave nothing too
        </Switch>
        <Switch on={f.onward} onChange={(onward) => set({ onward })}>
          Replicas travel on
        </Switch>
      </div>
      <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
        <Field label="Lag target, percent of changes" {...of('percent', 'lag')} placeholder="none" />
        <Field label="within seconds" {...of('seconds')} placeholder="60" />
        <Field
          label="Where two rules copy to one place"
          {...of('priority')}
          placeholder="the newest rule does"
          hint="The greater number does."
        />
      </div>
      {rule ? null : (
        <Choice
          label="What is there already"
          value={f.existing}
          onChange={(v) => set({ existing: v as 'leave' | 'backfill' })}
          options={[
            ['', 'choose: it is never assumed'],
            ['leave', 'leave it'],
            ['backfill', `copy it too${sums(review.data)}`],
          ]}
        />
      )}
      {review.data ? <ReviewNote review={review.data} /> : null}
      {mendable ? (
        <Switch on={f.mend} onChange={(mend) => set({ mend })}>
          Put that right when it is saved
        </Switch>
      ) : null}
    </Ask>
  );
}

interface Draft {
  name: string;
  bucket: string;
  prefix: string;
  tags: string;
  where: string;
  targets: TargetDraft[];
  priority: string;
  deleteMarkers: boolean;
  removals: boolean;
  onward: boolean;
  percent: string;
  seconds: string;
  mend: boolean;
}

const bodyOf = (f: Draft) => ({ name: f.name, bucket: f.bucket, ...changesOf(f) });

function changesOf(f: Draft) {
  const tags = Object.fromEntries(
    f.tags
      .split(',')
      .map((t) => t.trim())
      .filter(Boolean)
      .map((t) => [t.split('=')[0]!, t.split('=').slice(1).join('=')] as const),
  );
  return {
    prefix: f.prefix,
    tags,
    where: f.where,
    targets: f.targets
      .filter((t) => t.address.trim())
      .map((t) => ({ address: t.address.trim(), class: t.class.trim(), sealed: t.sealed })),
    ...(f.priority.trim() ? { priority: figure(f.priority) } : {}),
    deleteMarkers: f.deleteMarkers,
    removals: f.removals,
    onward: f.onward,
    ...(f.percent.trim()
      ? { lagTarget: { percent: figure(f.percent), seconds: figure(f.seconds, 60) } }
      : { noLagTarget: true }),
    mend: f.mend,
  };
}

const sums = (r?: Schemas['Review']) =>
  r?.existing.length ? `: ${r.existing.map((x) => `${things(x.objects, 'object')}, ${size(x.bytes)}`).join('; ')}` : '';

/** What a rule would do in words, and what it lacks. */
const ReviewNote = ({ review }: { review: Schemas['Review'] }) => (
  <div className={`note ${review.lacks.length ? 'warn' : ''}`} aria-live="polite">
    <p>{review.says}</p>
    {review.lacks.map((l) => (
      <p key={l.code + (l.target ?? '')} className="mt-4">
        <Shape kind="warn" size={11} /> It lacks: {l.says}. <span className="dim">{l.remedy}.</span>
      </p>
    ))}
  </div>
);
