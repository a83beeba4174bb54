import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Field, Section } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { things, visible } from '../../parts/format';
import { useFields } from '../../parts/useFields';

type Requirement = Schemas['Requirement'];

/** What the bucket asks of the metadata of objects. */
export function Required({ b }: { b: Schemas['BucketInfo'] }) {
  const list = b.required ?? [];
  const [asking, setAsking] = useState<Requirement | 'new' | null>(null);
  const toast = useToast();
  const change = useChange((required: Requirement[]) =>
    ask(
      api.PATCH('/api/v1/buckets/{bucket}', {
        params: { path: { bucket: b.name } },
        body: { required, ifRevision: b.revision },
      }),
    ),
  );
  const without = (r: Requirement) => list.filter((x) => x.field !== r.field || (x.prefix ?? '') !== (r.prefix ?? ''));
  return (
    <Section
      title="Metadata that is asked for"
      aside={things(list.length, 'field')}
      end={
        <button type="button" className="btn low" onClick={() => setAsking('new')}>
          Ask for a field
        </button>
      }
    >
      <Listing
        rows={list}
        id={(r) => `${r.prefix ?? ''} ${r.field}`}
        empty={<p className="dim pt-12">Objects may have any metadata, or none.</p>}
        columns={[
          { head: 'Field', cell: (r) => <b className="strong">{visible(r.field)}</b> },
          { head: 'Beneath', cell: (r) => visible(r.prefix ?? '') || 'all', className: 'key cut max-w-150' },
          { head: 'Is', cell: says, className: 'dim' },
          { head: 'Against it', cell: (r) => (r.refuse ? 'refused' : 'told'), className: 'dim' },
          {
            cell: (r) => (
              <button
                type="button"
                className="link"
                onClick={() => change.mutate(without(r), { onSuccess: () => toast(`${r.field} is asked for no more`) })}
              >
                Take away
              </button>
            ),
          },
        ]}
      />
      <p className="small faint mt-8">
        What lacks it is found by <span className="key">spindle bucket field check {b.name}</span>, and counted by the
        audit.
      </p>
      {asking ? (
        <RequirementForm
          error={change.error}
          busy={change.isPending}
          onClose={() => setAsking(null)}
          onSave={(r) =>
            change.mutate([...without(r), r], {
              onSuccess: () => {
                toast(`${r.field} is asked for`);
                setAsking(null);
              },
            })
          }
        />
      ) : null}
    </Section>
  );
}

/** What a requirement says of values. */
function says(r: Requirement) {
  const words = [r.optional ? 'may be missing' : 'must be there'];
  if (r.kind !== 'text') words.push(r.kind === 'yes-no' ? 'yes or no' : `a ${r.kind}`);
  if (r.oneOf?.length) words.push(`one of ${r.oneOf.map(visible).join(', ')}`);
  if (r.like) words.push(`like ${visible(r.like)}`);
  return words.join('; ');
}

function RequirementForm({
  error,
  busy,
  onSave,
  onClose,
}: {
  error: unknown;
  busy: boolean;
  onSave: (r: Requirement) => void;
  onClose: () => void;
}) {
  const [f, set, fields] = useFields({ field: '', prefix: '', kind: 'text', oneOf: '', like: '' });
  const [optional, setOptional] = useState(false);
  const [refuse, setRefuse] = useState(false);
  const of = fields(error);
  return (
    <Ask
      title="Ask for a field"
      act="Ask for it"
      busy={busy}
      ready={!!f.field.trim()}
      error={error}
      onClose={onClose}
      onAct={() =>
        onSave({
          field: f.field.trim().toLowerCase(),
          kind: f.kind as Requirement['kind'],
          optional,
          refuse,
          ...(f.prefix ? { prefix: f.prefix } : {}),
          ...(f.like ? { like: f.like } : {}),
          ...(f.oneOf.trim()
            ? {
                oneOf: f.oneOf
                  .split(',')
                  .map((v) => v.trim())
                  .filter(Boolean),
              }
            : {}),
        })
      }
    >
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field label="Field" mono {...of('field')} autoFocus />
        <Field label="Of keys beneath; empty: all" mono {...of('prefix')} placeholder="2026/" />
        <Choice
          label="Its values are"
          value={f.kind}
          onChange={(kind) => set({ kind })}
          options={[
            ['text', 'texts'],
            ['number', 'numbers'],
            ['day', 'days, such as 2026-11-20'],
            ['yes-no', 'yes or no'],
          ]}
        />
        <Field label="Like" mono {...of('like')} placeholder="FH-*" />
      </div>
      <Field
        label="Only one of these, with commas between them; empty: any"
        {...of('oneOf')}
        placeholder="CC0 1.0, CC BY 4.0"
      />
      <Switch on={optional} onChange={setOptional}>
        it may be missing
      </Switch>
      <Switch on={refuse} onChange={setRefuse}>
        refuse what is written against it, instead of telling
      </Switch>
    </Ask>
  );
}
