import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useBuckets, useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask, about, aboutNone } from '../../parts/Form';
import { Select, same } from '../../parts/Select';

/** Asks where to post, and what. */
export function PostForm({ onClose, onFresh }: { onClose: () => void; onFresh: (p: Schemas['PostInfo']) => void }) {
  const buckets = useBuckets();
  const [f, setF] = useState({ name: '', url: '', bucket: '', prefix: '', kinds: '' });
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const save = useChange(() =>
    ask(
      api.POST('/api/v1/journal/posts', {
        body: {
          ...f,
          kinds: f.kinds
            .split(',')
            .map((k) => k.trim())
            .filter(Boolean),
        },
      }),
    ),
  );
  const e = save.error;
  return (
    <Ask
      title="Post changes to an address"
      act="Post from now on"
      busy={save.isPending}
      ready={!!(f.name && f.url)}
      error={aboutNone(e, 'name', 'url', 'bucket', 'prefix', 'kinds')}
      onClose={onClose}
      onAct={() => save.mutate(undefined, { onSuccess: onFresh })}
    >
      <Field label="Name" value={f.name} onChange={set('name')} name="name" autoFocus error={about(e, 'name')} />
      <Field
        label="Address"
        mono
        value={f.url}
        onChange={set('url')}
        name="url"
        placeholder="https://hooks.example/changes"
        error={about(e, 'url')}
      />
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <div>
          <span className="label">Only changes in</span>
          <Select
            className="field sel w-full"
            value={f.bucket}
            onChange={(bucket) => setF({ ...f, bucket })}
            label="Only changes in"
            options={[['', 'all buckets'] as const, ...same((buckets.data?.buckets ?? []).map((b) => b.name))]}
          />
        </div>
        <Field
          label="Beneath"
          mono
          value={f.prefix}
          onChange={set('prefix')}
          name="prefix"
          error={about(e, 'prefix')}
        />
      </div>
      <Field
        label="Only these kinds"
        value={f.kinds}
        onChange={set('kinds')}
        name="kinds"
        placeholder="all, or such as written, deleted, annotated"
        error={about(e, 'kinds')}
      />
    </Ask>
  );
}
