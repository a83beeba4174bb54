import { type FormEvent, useState } from 'react';
import { useNavigate } from 'react-router';

import { Problem, type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Field, Section, When } from '../../parts/Bits';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { useToast } from '../../parts/Toasts';
import { parseSize, size } from '../../parts/format';

export function Settings({ b }: { b: Schemas['BucketInfo'] }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [quota, setQuota] = useState(b.quota ? size(b.quota) : '');
  const [removing, setRemoving] = useState<'objects' | 'bucket' | null>(null);
  const path = { bucket: b.name };
  const change = useChange((q: number | null) => ask(api.PATCH('/api/v1/buckets/{bucket}', { params: { path }, body: { quota: q as unknown as number } })));
  const bytes = quota.trim() === '' ? null : parseSize(quota);
  const bad = quota.trim() !== '' && bytes === null ? new Problem(0, 'This is no size', 'size', 'quota', 'Give it as 400 MiB or 2 TiB') : null;
  const used = b.usage.bytes + b.usage.previousBytes;
  const save = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(bytes, { onSuccess: (n) => toast(n.quota ? `The quota is now ${size(n.quota)}` : 'The quota was taken away') });
  };
  return (
    <div className="columns" style={{ display: 'grid', gridTemplateColumns: 'minmax(0,480px) minmax(0,480px)', gap: '22px 34px' }}>
      <Section title="Quota">
        <form onSubmit={save} style={{ paddingTop: 12, display: 'grid', gap: 12 }}>
          <Field label="The most bytes it may hold; empty for none" value={quota} onChange={(e) => setQuota(e.target.value)} placeholder="none" error={bad ?? change.error}
            hint={`It can grow at once. It shrinks to ${size(used)} at the least, which is what is used.`} />
          <div>
            <button type="submit" className="btn main" disabled={!!bad || change.isPending}>
              Save
            </button>
          </div>
        </form>
      </Section>
      <Section title="Facts">
        <dl className="facts" style={{ paddingTop: 6 }}>
          <dt>Owner</dt>
          <dd>{b.account}</dd>
          <dt>Region</dt>
          <dd>{b.region}</dd>
          <dt>Created</dt>
          <dd>
            <When at={b.created} /> by <span className="key">{b.createdBy}</span>
          </dd>
          <dt>Versioning</dt>
          <dd>{b.versioning}: what is replaced or removed is gone</dd>
        </dl>
      </Section>
      <Section title="Removal">
        <div className="row" style={{ paddingTop: 12 }}>
          <button type="button" className="btn harm" onClick={() => setRemoving('objects')} disabled={b.usage.objects === 0}>
            Empty the bucket
          </button>
          <button type="button" className="btn harm" onClick={() => setRemoving('bucket')}>
            Remove the bucket
          </button>
        </div>
        <p className="small faint" style={{ marginTop: 6 }}>
          Both say first what would go.
        </p>
      </Section>
      {removing ? (
        <RemoveDialog
          what={{ bucket: b.name, keys: [], prefixes: [''] }}
          alsoBucket={removing === 'bucket' ? () => ask(api.DELETE('/api/v1/buckets/{bucket}', { params: { path } })) : undefined}
          onClose={() => setRemoving(null)}
          onDone={() => {
            if (removing === 'bucket') void navigate('/buckets');
            setRemoving(null);
          }}
        />
      ) : null}
    </div>
  );
}
