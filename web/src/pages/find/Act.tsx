import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Field } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { count, size, things } from '../../parts/format';
import { useFields } from '../../parts/useFields';

type Act = NonNullable<Schemas['OrderIn']['act']>;

const acts: [Act, string][] = [
  ['annotate', 'set or take away metadata or a tag'],
  ['move', 'move to a tier'],
  ['copy', 'copy beneath a prefix'],
  ['put-back', 'bring back to how it was at a moment'],
  ['remove', 'remove'],
];
const done: Record<Act, string> = {
  annotate: 'annotated',
  move: 'moved',
  copy: 'copied',
  'put-back': 'restored',
  remove: 'removed',
};

/** Does something with all that a question finds in a bucket, after a rehearsal. */
export function ActOnFound({ where, buckets, onClose }: { where: string; buckets: string[]; onClose: () => void }) {
  const [bucket, setBucket] = useState(buckets[0] ?? '');
  const [act, setAct] = useState<Act>('annotate');
  const [f, set, fields] = useFields({ set: '', kind: 'tag', tier: '', to: '', asOf: '', typed: '' });
  const order = orderOf(where, bucket, act, f);
  const look = useChange(() => ask(api.POST('/api/v1/orders/rehearse', { body: order })));
  const of = fields(null);
  const [agreed, setAgreed] = useState<{ of: string; n: number; bytes: number } | null>(null);
  const now = JSON.stringify(order);
  const counted = agreed?.of === now ? agreed : null;
  const [ended, setEnded] = useState<Schemas['OrderInfo'] | null>(null);
  const run = useChange(async () => {
    let o = await ask(api.POST('/api/v1/orders', { body: { ...order, expect: counted!.n } }));
    while (o.state === 'running') {
      await new Promise((r) => setTimeout(r, 300));
      o = await ask(api.GET('/api/v1/orders/{id}', { params: { path: { id: o.id } } }));
    }
    return o;
  });
  const mustType = act === 'remove' && !!counted && counted.n > 1;
  const given =
    act === 'annotate'
      ? f.set.trim()
      : act === 'move'
        ? f.tier
        : act === 'copy'
          ? f.to
          : act === 'put-back'
            ? f.asOf
            : 'x';
  return (
    <Ask
      title="Do something with what is found"
      act={counted ? 'Do it' : 'Rehearse it'}
      harm={act === 'remove' && !!counted}
      busy={look.isPending || run.isPending}
      ready={!!given && !ended && (!mustType || f.typed.replace(/[\s,.]/g, '') === String(counted.n))}
      error={look.error ?? run.error}
      width={600}
      onClose={onClose}
      onAct={() =>
        counted
          ? run.mutate(undefined, { onSuccess: setEnded })
          : look.mutate(undefined, {
              onSuccess: (r) => setAgreed({ of: now, n: r.counts[done[act]] ?? 0, bytes: r.bytes }),
            })
      }
    >
      <p className="key small">{where}</p>
      <div className="grid grid-cols-[1fr_2fr] gap-12">
        <Choice label="In" value={bucket} onChange={setBucket} options={buckets.map((b) => [b, `in ${b}`])} />
        <Choice label="What" value={act} onChange={(a) => setAct(a as Act)} options={acts} />
      </div>
      {act === 'annotate' ? (
        <div className="grid grid-cols-[1fr_2fr] gap-12">
          <Choice
            label="Of"
            value={f.kind}
            onChange={(kind) => set({ kind })}
            options={[
              ['tag', 'a tag'],
              ['field', 'a metadata field'],
            ]}
          />
          <Field label="NAME=VALUE; NAME alone takes it away" mono {...of('set')} />
        </div>
      ) : null}
      {act === 'move' ? <Field label="Tier" {...of('tier')} /> : null}
      {act === 'copy' ? <Field label="Beneath BUCKET/PREFIX/; what is there stays" mono {...of('to')} /> : null}
      {act === 'put-back' ? <Field label="How it was at, or so long ago" {...of('asOf')} placeholder="7d" /> : null}
      {counted ? (
        <p className="note">
          {things(counted.n, 'object')} of {bucket}, {size(counted.bytes)}, would be {done[act]}. What is written from
          now on is left alone.
        </p>
      ) : null}
      {mustType ? <Field label={`Type ${counted.n} to remove so many`} {...of('typed')} /> : null}
      {ended ? <Ended o={ended} /> : null}
    </Ask>
  );
}

function Ended({ o }: { o: Schemas['OrderInfo'] }) {
  if (o.problem) return <Complaint error={new Error(o.problem)} />;
  return (
    <p role="status">
      {Object.entries(o.counts)
        .map(([what, n]) => `${count(n)} ${what}`)
        .join(', ') || 'nothing matched any more'}
      : {o.state}.
    </p>
  );
}

function orderOf(
  where: string,
  bucket: string,
  act: Act,
  f: { set: string; kind: string; tier: string; to: string; asOf: string },
): Schemas['OrderIn'] {
  const body: Schemas['OrderIn'] = { kind: 'found', bucket, where, act };
  if (act === 'annotate') {
    const [name = '', ...rest] = f.set.split('=');
    const edit = rest.length ? { set: { [name.trim()]: rest.join('=').trim() } } : { unset: [name.trim()] };
    return { ...body, ...(f.kind === 'tag' ? { tags: edit } : { metadata: edit }) };
  }
  if (act === 'move') return { ...body, tier: f.tier.trim() };
  if (act === 'copy') {
    const [toBucket = '', ...rest] = f.to.split('/');
    return { ...body, toBucket, toPrefix: rest.join('/') };
  }
  return act === 'put-back' ? { ...body, asOf: f.asOf.trim() } : body;
}
