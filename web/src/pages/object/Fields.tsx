import { type FormEvent, useState } from 'react';

import { Problem, type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Complaint, Section } from '../../parts/Bits';
import { Shape, State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { useUnsaved } from '../../parts/Unsaved';
import { count, visible } from '../../parts/format';

type Info = Schemas['ObjectInfo'];
type Edit = Schemas['Edit'];

/** What is being edited: a field or a tag, from the revision at which editing began. */
interface Draft {
  kind: 'metadata' | 'tags';
  name: string;
  fresh: boolean; // its name is being given too
  value: string;
  was?: string;
  revision: number;
}

/** Metadata and tags of a version, edited in place. A change that came between is shown beside one's own. */
export function Fields({ o, bucket, version }: { o: Info; bucket: string; version: string }) {
  const may = o.rights?.includes('write') ?? true;
  const toast = useToast();
  const [draft, setDraft] = useState<Draft | null>(null);
  const change = useChange((c: { kind: Draft['kind']; edit: Edit; revision: number }) =>
    ask(
      api.PATCH('/api/v1/buckets/{bucket}/object', {
        params: { path: { bucket }, query: { key: o.key, version } },
        body: { [c.kind]: c.edit, ifRevision: c.revision },
      }),
    ),
  );
  useUnsaved(!!draft && (draft.value !== (draft.was ?? '') || (draft.fresh && draft.name !== '')));
  const begin = (kind: Draft['kind'], name: string) => {
    change.reset();
    const was = o[kind]?.[name];
    setDraft({ kind, name, fresh: was === undefined, value: was ?? '', was, revision: o.revision });
  };
  const done = (n: Info, what: string) => {
    toast(`${what}: revision ${n.revision}`);
    setDraft(null);
  };
  const save = (d: Draft, revision: number) =>
    change.mutate(
      { kind: d.kind, edit: { set: { [d.name.trim()]: d.value } }, revision },
      { onSuccess: (n) => done(n, `${d.name} saved`) },
    );
  const take = (kind: Draft['kind'], name: string) => {
    setDraft(null);
    change.mutate(
      { kind, edit: { unset: [name] }, revision: o.revision },
      { onSuccess: (n) => done(n, `${name} taken away`) },
    );
  };
  const problem = change.error instanceof Problem ? change.error : null;
  const conflict = problem?.code === 'revision' && draft ? draft : null;
  const fields = Object.entries(o.metadata ?? {}).sort(([a], [b]) => (a < b ? -1 : 1));
  const tags = Object.entries(o.tags ?? {}).sort(([a], [b]) => (a < b ? -1 : 1));

  const form = (d: Draft) => (
    <form
      className="py-4 px-0"
      onSubmit={(e: FormEvent) => {
        e.preventDefault();
        save(d, d.revision);
      }}
    >
      <span className="row flex-wrap">
        {d.fresh ? (
          <span className="field mono w-130">
            <input
              autoFocus
              value={d.name}
              onChange={(e) => setDraft({ ...d, name: e.target.value })}
              placeholder="name"
              aria-label="Name"
            />
          </span>
        ) : null}
        <span className={`field ${problem && !conflict ? 'bad' : ''} flex-[1_1_130px]`}>
          <input
            autoFocus={!d.fresh}
            value={d.value}
            onChange={(e) => setDraft({ ...d, value: e.target.value })}
            aria-label={`Value of ${d.name || 'the new field'}`}
            placeholder="value"
            onKeyDown={(e) => e.key === 'Escape' && setDraft(null)}
          />
        </span>
        <button
          type="submit"
          className="btn low main"
          disabled={change.isPending || !d.name.trim() || d.value === d.was}
        >
          Save as revision {d.revision + 1}
        </button>
        {d.fresh ? null : (
          <button
            type="button"
            className="btn low"
            onClick={() => take(d.kind, d.name)}
            aria-label={`Take away ${d.name}`}
          >
            Take away
          </button>
        )}
        <button type="button" className="btn low bare" onClick={() => setDraft(null)}>
          Cancel
        </button>
      </span>
      {problem && !conflict ? <Complaint error={problem} /> : null}
      {conflict ? (
        <Conflict d={conflict} now={o} onMine={() => save(conflict, o.revision)} onTheirs={() => setDraft(null)} />
      ) : null}
    </form>
  );

  return (
    <Section
      title="Metadata and tags"
      aside={`revision ${o.revision}`}
      end={<span className="faint">{count(o.metadataBytes)} of 2,048 bytes</span>}
    >
      <table className="open">
        <tbody>
          {fields.map(([name, value]) => {
            const editing = draft?.kind === 'metadata' && !draft.fresh && draft.name === name;
            return (
              <tr key={name}>
                <td className="key w-122 align-top pt-4">{name}</td>
                <td className="wrap-any" colSpan={editing ? 2 : 1}>
                  {editing ? form(draft) : name === 'taxon' ? <i>{visible(value)}</i> : visible(value)}
                </td>
                {editing || !may ? null : (
                  <td className="num w-60">
                    <button
                      type="button"
                      className="link small"
                      onClick={() => begin('metadata', name)}
                      aria-label={`Change ${name}`}
                    >
                      Change
                    </button>
                  </td>
                )}
              </tr>
            );
          })}
        </tbody>
      </table>
      {o.lacks?.length ? (
        <p className="pt-8">
          <State kind="warn">The bucket asks for more: {o.lacks.map((l) => `${l.field} ${l.says}`).join('; ')}</State>
        </p>
      ) : null}
      {!fields.length ? <p className="dim pt-8">It has no metadata yet.</p> : null}
      {problem && !draft ? <Complaint error={problem} /> : null}
      {draft?.fresh && draft.kind === 'metadata' ? form(draft) : null}
      <div className="row mt-8 flex-wrap">
        <span className="small faint">Tags</span>
        {tags.map(([name, value]) => (
          <span key={name} className="badge border border-edge pr-3">
            <button
              type="button"
              disabled={!may}
              onClick={() => begin('tags', name)}
              aria-label={`Change the tag ${name}`}
            >
              {visible(name)} = {visible(value) || '(empty)'}
            </button>
            {may ? (
              <button
                type="button"
                className="faint"
                onClick={() => take('tags', name)}
                aria-label={`Take away the tag ${name}`}
              >
                <Shape kind="gone" size={8} />
              </button>
            ) : null}
          </span>
        ))}
        {may && tags.length < 10 ? (
          <button type="button" className="link" onClick={() => begin('tags', '')}>
            Add a tag
          </button>
        ) : null}
        {may ? (
          <button type="button" className="link ml-auto" onClick={() => begin('metadata', '')}>
            Add a field
          </button>
        ) : (
          <span className="small faint ml-auto">Who may write here can change them</span>
        )}
      </div>
      {draft?.kind === 'tags' ? form(draft) : null}
    </Section>
  );
}

/** Two changes of the same thing: theirs is there, one's own is not. */
function Conflict({ d, now, onMine, onTheirs }: { d: Draft; now: Info; onMine: () => void; onTheirs: () => void }) {
  const theirs = now[d.kind]?.[d.name];
  return (
    <div className="note warn mt-6" role="alert">
      <b className="strong">Somebody changed it meanwhile.</b> It is at revision {now.revision} now; yours began at{' '}
      {d.revision}.
      <dl className="facts mt-4 mx-0 mb-6">
        <dt>Was</dt>
        <dd className="wrap-any">{d.was === undefined ? <span className="faint">not there</span> : visible(d.was)}</dd>
        <dt>Theirs, there now</dt>
        <dd className="wrap-any">
          {theirs === d.was ? (
            <span className="faint">this field is as it was; another one changed</span>
          ) : theirs === undefined ? (
            <span className="faint">taken away</span>
          ) : (
            visible(theirs)
          )}
        </dd>
        <dt>Yours</dt>
        <dd className="wrap-any">{visible(d.value)}</dd>
      </dl>
      <span className="row">
        <button type="button" className="btn low" onClick={onMine}>
          Save mine as revision {now.revision + 1}
        </button>
        <button type="button" className="btn low" onClick={onTheirs}>
          Keep theirs
        </button>
      </span>
    </div>
  );
}
