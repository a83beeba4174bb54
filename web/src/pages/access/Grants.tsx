import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useGrants } from '../../data/access';
import { useBuckets, useChange } from '../../data/queries';
import { Field, Trouble, When } from '../../parts/Bits';
import { Ask, Choice } from '../../parts/Form';
import { More } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { Select, same } from '../../parts/Select';
import { useToast } from '../../parts/Toasts';
import { bucketPage, visible } from '../../parts/format';
import { Give, purposes } from './Give';
import { Actions } from './parts';
import { useFields } from '../../parts/useFields';

type Grant = Schemas['GrantInfo'];

/** Buckets and prefixes that were opened to others. */
export default function Grants() {
  const [query, setQuery] = useSearchParams();
  const bucket = query.get('bucket') ?? '';
  const buckets = useBuckets();
  const list = useGrants(bucket);
  const [giving, setGiving] = useState(false);
  const [open, setOpen] = useState<Grant | null>(null);
  const grants = list.data?.pages.flatMap((p) => p.grants) ?? [];
  return (
    <>
      <Actions>
        <Select
          className="field sel w-170"
          value={bucket}
          onChange={(v) => setQuery(v ? { bucket: v } : {}, { replace: true })}
          label="Bucket"
          options={[['', 'all buckets'] as const, ...same((buckets.data ?? []).map((b) => b.name))]}
        />
        <button type="button" className="btn main" onClick={() => setGiving(true)}>
          Open a bucket to somebody
        </button>
      </Actions>
      {list.error ? <Trouble error={list.error} /> : null}
      {list.data && !grants.length ? (
        <div className="empty">
          <b className="strong">Nothing was opened to others.</b>
          <p className="dim">
            A grant opens a bucket, or what is beneath a prefix, to another account, a person, a key, or anyone, for a
            purpose and for as long as you say.
          </p>
        </div>
      ) : (
        <table>
          <thead>
            <tr>
              <th className="num">Grant</th>
              <th>On</th>
              <th>Of</th>
              <th>To</th>
              <th>For</th>
              <th>Expires</th>
              <th>Note</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {grants.map((g) => (
              <tr key={g.id}>
                <td className="num dim">{g.id}</td>
                <td>
                  <Link className="key" to={bucketPage(g.bucket, g.prefix)}>
                    {visible(g.prefix ? `${g.bucket}/${g.prefix}` : g.bucket)}
                  </Link>
                </td>
                <td className="dim">{g.account}</td>
                <td>{g.to === 'anyone' ? <State kind="warn">anyone</State> : g.to}</td>
                <td>{g.for}</td>
                <td className="dim">
                  {g.expired ? <State kind="wait">expired</State> : g.expires ? <When at={g.expires} /> : 'never'}
                </td>
                <td className="dim cut max-w-220" title={g.note}>
                  {g.note}
                </td>
                <td className="num">
                  <button type="button" className="btn low" onClick={() => setOpen(g)}>
                    Change
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <More list={list} />
      {giving ? <Give bucket={bucket} onClose={() => setGiving(false)} /> : null}
      {open ? <Change g={open} onClose={() => setOpen(null)} /> : null}
    </>
  );
}

function Change({ g, onClose }: { g: Grant; onClose: () => void }) {
  const toast = useToast();
  const [f, set, fields] = useFields({ for: g.for, expires: g.expires ?? '', note: g.note ?? '' });
  const path = { id: g.id };
  const save = useChange(() =>
    ask(api.PATCH('/api/v1/grants/{id}', { params: { path }, body: { ...f, ifRevision: g.revision } })),
  );
  const remove = useChange(() => ask(api.DELETE('/api/v1/grants/{id}', { params: { path } })));
  const options: [string, string][] = purposes.some(([p]) => p === g.for) ? purposes : [[g.for, g.for], ...purposes];
  const of = fields(save.error);
  return (
    <Ask
      title={`Grant ${g.id}: ${g.to} on ${visible(g.prefix ? `${g.bucket}/${g.prefix}` : g.bucket)}`}
      act="Save"
      busy={save.isPending}
      error={save.error ?? remove.error}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: () => {
            toast('Saved');
            onClose();
          },
        })
      }
    >
      <p className="small dim">It gives: {g.rights.join(', ')}.</p>
      <Choice label="For" value={f.for} onChange={(v) => set({ for: v })} options={options} />
      <Field label="Expires" {...of('expires')} placeholder="never" />
      <Field label="Why it is given" {...of('note')} />
      <div className="row border-t border-t-hairline pt-12">
        <span className="small dim">Taken away, it stops working within a second.</span>
        <button
          type="button"
          className="btn harm ml-auto"
          disabled={remove.isPending}
          onClick={() =>
            remove.mutate(undefined, {
              onSuccess: () => {
                toast(`Grant ${g.id} was taken away`);
                onClose();
              },
            })
          }
        >
          Take it away
        </button>
      </div>
    </Ask>
  );
}
