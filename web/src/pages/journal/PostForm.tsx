import { type Schemas, api, ask } from '../../api/client';
import { useBuckets, useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { Select, same } from '../../parts/Select';
import { useFields } from '../../parts/useFields';

/** Asks where to post, and what. */
export function PostForm({ onClose, onFresh }: { onClose: () => void; onFresh: (p: Schemas['PostInfo']) => void }) {
  const buckets = useBuckets();
  const [f, set, fields] = useFields({ name: '', url: '', bucket: '', prefix: '', kinds: '' });
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
  const of = fields(e);
  return (
    <Ask
      title="Post changes to an address"
      act="Post from now on"
      busy={save.isPending}
      ready={!!(f.name && f.url)}
      error={e}
      onClose={onClose}
      onAct={() => save.mutate(undefined, { onSuccess: onFresh })}
    >
      <Field label="Name" {...of('name')} autoFocus />
      <Field label="Address" mono {...of('url')} placeholder="https://hooks.example/changes" />
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <div>
          <span className="label">Only changes in</span>
          <Select
            className="field sel w-full"
            value={f.bucket}
            onChange={(bucket) => set({ bucket })}
            label="Only changes in"
            options={[['', 'all buckets'] as const, ...same((buckets.data ?? []).map((b) => b.name))]}
          />
        </div>
        <Field label="Beneath" mono {...of('prefix')} />
      </div>
      <Field label="Only these kinds" {...of('kinds')} placeholder="all, or such as written, deleted, annotated" />
    </Ask>
  );
}
