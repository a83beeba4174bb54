import { type FormEvent, useState } from 'react';
import { Link, useNavigate } from 'react-router';

import { Problem, type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Field, Section, When } from '../../parts/Bits';
import { Shape } from '../../parts/Marks';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { useToast } from '../../parts/Toasts';
import { decided, useUnsaved } from '../../parts/Unsaved';
import { type Versioning, VersioningChoice } from '../../parts/Versioning';
import { parseSize, size, things, visible } from '../../parts/format';
import { JournalKept } from './JournalKept';
import { Required } from './Required';
import { Placed, Sealing } from './Stored';

export function Settings({ b }: { b: Schemas['BucketInfo'] }) {
  const navigate = useNavigate();
  const toast = useToast();
  const [quota, setQuota] = useState(b.quota ? size(b.quota) : '');
  const [removing, setRemoving] = useState<'objects' | 'bucket' | null>(null);
  const [versioning, setVersioning] = useState(b.versioning as Versioning);
  const [tag, setTag] = useState('');
  useUnsaved(quota !== (b.quota ? size(b.quota) : '') || versioning !== b.versioning || tag !== '');
  const path = { bucket: b.name };
  const turn = useChange((v: Versioning) =>
    ask(api.PATCH('/api/v1/buckets/{bucket}', { params: { path }, body: { versioning: v } })),
  );
  const tags = useChange((t: Schemas['Edit']) =>
    ask(api.PATCH('/api/v1/buckets/{bucket}', { params: { path }, body: { tags: t } })),
  );
  const change = useChange((q: number | null) =>
    ask(api.PATCH('/api/v1/buckets/{bucket}', { params: { path }, body: { quota: q as unknown as number } })),
  );
  const bytes = quota.trim() === '' ? null : parseSize(quota);
  const bad =
    quota.trim() !== '' && bytes === null
      ? new Problem(0, 'This is no size', 'size', 'quota', 'Give it as 400 MiB or 2 TiB')
      : null;
  const used = b.usage.bytes + b.usage.previousBytes;
  const save = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(bytes, {
      onSuccess: (n) => {
        setQuota(n.quota ? size(n.quota) : '');
        toast(n.quota ? `The quota is now ${size(n.quota)}` : 'The quota was taken away');
      },
    });
  };
  return (
    <div className="columns grid grid-cols-[minmax(0,480px)_minmax(0,480px)] gap-y-22 gap-x-34">
      <Section title="Quota">
        <form className="pt-12 grid gap-12" onSubmit={save}>
          <Field
            label="The most bytes it may hold; empty for none"
            value={quota}
            onChange={(e) => setQuota(e.target.value)}
            placeholder="none"
            error={bad ?? change.error}
            hint={`It can grow at once. It shrinks to ${size(used)} at the least, which is what is used.`}
          />
          <div>
            <button type="submit" className="btn main" disabled={!!bad || change.isPending}>
              Save
            </button>
          </div>
        </form>
      </Section>
      <Section title="Versioning">
        <div className="pt-12 grid gap-12">
          <VersioningChoice value={versioning} onChange={setVersioning} states={['on', 'paused', 'off']} />
          {b.usage.previous ? (
            <p className="small dim">
              Previous versions take {size(b.usage.previousBytes)}, {things(b.usage.previous, 'version')}, and there are{' '}
              {things(b.usage.markers, 'delete marker')}. <Link to={`/buckets/${b.name}/usage`}>By prefix</Link>
            </p>
          ) : null}
          {turn.error ? <Complaint error={turn.error} /> : null}
          <div>
            <button
              type="button"
              className="btn main"
              disabled={versioning === b.versioning || turn.isPending}
              onClick={() =>
                turn.mutate(versioning, {
                  onSuccess: (n) => toast(`Versioning is ${n.versioning}`),
                  onError: () => setVersioning(b.versioning as Versioning),
                })
              }
            >
              Save
            </button>
          </div>
        </div>
      </Section>
      <Placed b={b} />
      <Sealing b={b} />
      <JournalKept b={b} />
      <Section title="Tags" aside={things(Object.keys(b.tags ?? {}).length, 'tag')}>
        <form
          className="row pt-12 flex-wrap"
          onSubmit={(e) => {
            e.preventDefault();
            const [name = '', ...value] = tag.split('=');
            tags.mutate({ set: { [name.trim()]: value.join('=').trim() } }, { onSuccess: () => setTag('') });
          }}
        >
          {Object.entries(b.tags ?? {})
            .sort()
            .map(([name, value]) => (
              <span key={name} className="badge border border-edge pr-3">
                {visible(name)} = {visible(value)}
                <button
                  type="button"
                  className="faint"
                  onClick={() => tags.mutate({ unset: [name] })}
                  aria-label={`Take away the tag ${name}`}
                >
                  <Shape kind="gone" size={8} />
                </button>
              </span>
            ))}
          <span className="field w-170">
            <input
              value={tag}
              onChange={(e) => setTag(e.target.value)}
              placeholder="name=value"
              aria-label="A new tag"
            />
          </span>
          <button type="submit" className="btn" disabled={!tag.includes('=')}>
            Add
          </button>
        </form>
        {tags.error ? <Complaint error={tags.error} /> : null}
      </Section>
      <Section title="Unfinished uploads">
        <p className="pt-12">
          A <Link to={`/buckets/${b.name}/lifecycle`}>lifecycle rule</Link> abandons those that nobody finishes.{' '}
          <Link to="/uploads">See them</Link>
        </p>
      </Section>
      <Section title="Facts">
        <dl className="facts pt-6">
          <dt>Owner</dt>
          <dd>{b.account}</dd>
          <dt>Region</dt>
          <dd>{b.region}</dd>
          <dt>Created</dt>
          <dd>
            <When at={b.created} /> by <span className="key">{b.createdBy}</span>
          </dd>
        </dl>
      </Section>
      <div className="col-span-full">
        <Required b={b} />
      </div>
      <Section title="Removal">
        <div className="row pt-12">
          <button
            type="button"
            className="btn harm"
            onClick={() => setRemoving('objects')}
            disabled={b.usage.objects + b.usage.previous + b.usage.markers === 0}
          >
            Empty the bucket
          </button>
          <button type="button" className="btn harm" onClick={() => setRemoving('bucket')}>
            Remove the bucket
          </button>
        </div>
        <p className="small faint mt-6">Both say first what would go; previous versions go too.</p>
      </Section>
      {removing ? (
        <RemoveDialog
          what={{ bucket: b.name, keys: [], prefixes: [''], withVersions: b.versioning !== 'off' }}
          alsoBucket={
            removing === 'bucket' ? () => ask(api.DELETE('/api/v1/buckets/{bucket}', { params: { path } })) : undefined
          }
          onClose={() => setRemoving(null)}
          onDone={() => {
            if (removing === 'bucket') void navigate('/buckets', decided);
            setRemoving(null);
          }}
        />
      ) : null}
    </div>
  );
}
