import { api, ask } from '../../api/client';
import { useBuckets, useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';

export const purposes: [string, string][] = [
  ['read from', 'read from: list and read'],
  ['write into', 'write into: list and write'],
  ['replicate into', 'replicate into: list, read, write, remove'],
  ['administer', 'administer: all of it, with settings'],
];

export function Give({ bucket, onClose }: { bucket: string; onClose: () => void }) {
  const toast = useToast();
  const buckets = useBuckets();
  const mine = (buckets.data ?? []).filter((b) => b.rights.includes('settings'));
  const [f, set, fields] = useFields({
    bucket: bucket || mine[0]?.name || '',
    prefix: '',
    kind: 'account',
    name: '',
    for: 'read from',
    expires: '',
    note: '',
  });
  const anyone = f.kind === 'anyone';
  const body = {
    bucket: f.bucket,
    prefix: f.prefix,
    to: anyone ? 'anyone' : `${f.kind}:${f.name}`,
    for: anyone ? 'read from' : f.for,
    expires: f.expires,
    note: f.note,
  };
  const give = useChange(() => ask(api.POST('/api/v1/grants', { body })));
  const of = fields(give.error);
  return (
    <Ask
      title="Open a bucket to somebody"
      act="Open it"
      busy={give.isPending}
      ready={!!f.bucket && (anyone || !!f.name)}
      error={give.error}
      onClose={onClose}
      onAct={() =>
        give.mutate(undefined, {
          onSuccess: (g) => {
            toast(`${g.to} may ${g.for} ${g.bucket}/${g.prefix} now`);
            onClose();
          },
        })
      }
    >
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Choice
          label="Bucket"
          value={f.bucket}
          onChange={(v) => set({ bucket: v })}
          options={mine.map((b) => [b.name, b.name])}
        />
        <Field label="Only beneath" mono {...of('prefix')} placeholder="the whole bucket" />
        <Choice
          label="To"
          value={f.kind}
          onChange={(v) => set({ kind: v })}
          options={[
            ['account', 'an account'],
            ['person', 'a person'],
            ['key', 'a key'],
            ['anyone', 'anyone, without a key'],
          ]}
        />
        {anyone ? (
          <span />
        ) : (
          <Field
            label={{ account: 'Its name', person: 'Their name', key: 'Its id' }[f.kind] ?? ''}
            mono
            {...of('name', 'to')}
            name="to"
          />
        )}
        {anyone ? (
          <Choice label="For" value="read from" onChange={() => {}} options={[purposes[0]!]} />
        ) : (
          <Choice label="For" value={f.for} onChange={(v) => set({ for: v })} options={purposes} />
        )}
        <Field label="Expires" {...of('expires')} placeholder="never" hint="A date, or a time such as 90d." />
      </div>
      <Field label="Why it is given" {...of('note')} />
      {anyone ? (
        <div className="note warn">
          Everybody who can reach the service will be able to list and read {f.bucket}/{f.prefix}, without signing in.
        </div>
      ) : null}
    </Ask>
  );
}
