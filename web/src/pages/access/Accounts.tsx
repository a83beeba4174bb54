import { useState } from 'react';

import { Problem, type Schemas, api, ask } from '../../api/client';
import { useAccounts, useMaster } from '../../data/access';
import { useChange, unreadable } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field, Ply, Section, Size, Trouble } from '../../parts/Bits';
import { useToast } from '../../parts/Toasts';
import { count, figure, parseSize, size, things } from '../../parts/format';
import { Ask, Confirm } from '../../parts/Form';
import { More } from '../../parts/Listing';
import { Actions } from './parts';
import { useFields } from '../../parts/useFields';

type Account = Schemas['AccountInfo'];

/** Accounts own buckets, keys and quotas. */
export default function Accounts() {
  const session = useSession();
  const list = useAccounts();
  const [open, setOpen] = useState<Account | 'new' | null>(null);
  const accounts = list.data?.pages.flatMap((p) => p.accounts) ?? [];
  if (unreadable(list)) return <Trouble error={list.error} />;
  return (
    <>
      {session.operator ? (
        <Actions>
          <button type="button" className="btn main" onClick={() => setOpen('new')}>
            Create an account
          </button>
        </Actions>
      ) : null}
      <table>
        <thead>
          <tr>
            <th>Account</th>
            <th className="num">Buckets</th>
            <th className="num">Size</th>
            <th>Quota</th>
            <th className="num">Keys</th>
            <th className="num">People</th>
            <th>Note</th>
            <th />
          </tr>
        </thead>
        <tbody>
          {accounts.map((a) => (
            <tr key={a.name}>
              <td className="strong">{a.name}</td>
              <td className="num">
                {count(a.buckets)}
                {a.maxBuckets !== null ? <span className="faint"> of {count(a.maxBuckets)}</span> : null}
              </td>
              <td className="num">
                <Size bytes={a.bytes} />
              </td>
              <td>
                {a.quota ? (
                  <span className="row w-240">
                    <Ply
                      share={Math.min(1, a.bytes / a.quota)}
                      tone={a.bytes >= a.quota ? 'is-stop' : ''}
                      label={`${a.name} uses its quota`}
                    />
                    <span className="dim nowrap">{size(a.quota)}</span>
                  </span>
                ) : (
                  <span className="faint">none</span>
                )}
              </td>
              <td className="num">{count(a.keys)}</td>
              <td className="num">{count(a.people)}</td>
              <td className="dim">{[a.operator ? 'operates the service' : '', a.note].filter(Boolean).join('; ')}</td>
              <td className="num">
                {session.operator ? (
                  <button type="button" className="btn low" onClick={() => setOpen(a)}>
                    Change
                  </button>
                ) : null}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <More list={list} />
      {session.operator ? <Master /> : null}
      {open ? (
        <Edit key={open === 'new' ? '' : open.name} a={open === 'new' ? null : open} onClose={() => setOpen(null)} />
      ) : null}
    </>
  );
}

function Edit({ a, onClose }: { a: Account | null; onClose: () => void }) {
  const toast = useToast();
  const [f, , fields] = useFields({
    name: a?.name ?? '',
    quota: a?.quota ? size(a.quota) : '',
    most: a?.maxBuckets?.toString() ?? '',
    note: a?.note ?? '',
  });
  const [going, setGoing] = useState(false);
  const bytes = f.quota.trim() ? parseSize(f.quota) : undefined;
  const most = f.most.trim() ? figure(f.most) : undefined;
  const bad = bytes === null ? new Problem(0, 'This is no size', 'size', 'quota', 'Give it as 400 GiB or 2 TiB') : null;
  const path = { account: a?.name ?? '' };
  const none = null as unknown as number;
  const save = useChange(() =>
    a
      ? ask(
          api.PATCH('/api/v1/accounts/{account}', {
            params: { path },
            body: { note: f.note, quota: bytes ?? none, maxBuckets: most ?? none, ifRevision: a.revision },
          }),
        )
      : ask(
          api.POST('/api/v1/accounts', {
            body: {
              name: f.name,
              note: f.note,
              ...(bytes ? { quota: bytes } : {}),
              ...(most !== undefined ? { maxBuckets: most } : {}),
            },
          }),
        ),
  );
  if (going && a)
    return (
      <Confirm
        title={`Remove the account ${a.name}?`}
        act="Remove"
        done={`The account ${a.name} is gone`}
        run={() => ask(api.DELETE('/api/v1/accounts/{account}', { params: { path } }))}
        onDone={onClose}
        onClose={() => setGoing(false)}
      >
        <p>
          It goes with {things(a.keys, 'key')} and the roles of{' '}
          {a.people === 1 ? '1 person' : `${count(a.people)} people`}. It must own no bucket any more
          {a.buckets ? `, and owns ${things(a.buckets, 'bucket')} now` : ''}.
        </p>
      </Confirm>
    );
  const of = fields(save.error);
  const quota = of('quota');
  return (
    <Ask
      title={a ? `The account ${a.name}` : 'Create an account'}
      act={a ? 'Save' : 'Create'}
      busy={save.isPending}
      ready={!!f.name && !bad && !Number.isNaN(most)}
      error={save.error}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: (n) => {
            toast(a ? 'Saved' : `The account ${n.name} is there`);
            onClose();
          },
        })
      }
    >
      {a ? null : <Field label="Name" mono {...of('name')} autoFocus hint="Small letters, digits and hyphens." />}
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field label="Quota of all its buckets" {...quota} placeholder="none" error={bad ?? quota.error} />
        <Field label="How many buckets it may have" {...of('most')} placeholder="any number" inputMode="numeric" />
      </div>
      <Field label="Note" {...of('note')} />
      {a && !a.operator ? (
        <div className="row border-t border-t-hairline pt-12">
          <button type="button" className="btn harm ml-auto" onClick={() => setGoing(true)}>
            Remove
          </button>
        </div>
      ) : null}
    </Ask>
  );
}

/** The master key: which one, never the key itself. */
function Master() {
  const toast = useToast();
  const m = useMaster(true);
  const rotate = useChange(() => ask(api.POST('/api/v1/master-key/rotate')));
  if (!m.data) return null;
  return (
    <div className="max-w-640 mt-26">
      <Section title="Master key" aside="it seals the secrets of keys and of sealed content">
        <div className="spread pt-10">
          <span>
            <span className="key">{m.data.fingerprint}</span>{' '}
            <span className="dim">
              seals {things(m.data.sealed, 'secret')}; kept in{' '}
              {m.data.from === 'file' ? 'master.key in the data directory' : 'SPINDLE_MASTER_KEY'}
            </span>
          </span>
          <button
            type="button"
            className="btn"
            disabled={rotate.isPending}
            onClick={() =>
              rotate.mutate(undefined, { onSuccess: () => toast('There is a new master key: back it up now') })
            }
          >
            {rotate.isPending ? 'Rotating' : 'Rotate'}
          </button>
        </div>
        {rotate.error ? <Trouble error={rotate.error} /> : null}
      </Section>
    </div>
  );
}
