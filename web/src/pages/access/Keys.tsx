import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useAccounts, useKeys } from '../../data/access';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field, Trouble, When } from '../../parts/Bits';
import { State, type StateKind } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { moment } from '../../parts/format';
import { Ask, Choice, about, aboutNone } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { Actions, Secret } from './parts';
import { Select } from '../../parts/Select';

type Key = Schemas['KeyInfo'];
type Fresh = Schemas['KeySecret'];

export const roles: [string, string][] = [
  ['reader', 'reader: lists and reads'],
  ['writer', 'writer: also writes and removes'],
  ['administrator', 'administrator: also settings, keys, grants'],
];

const states: Record<string, StateKind> = { active: 'good', off: 'off', expired: 'wait', replaced: 'past' };

export default function Keys() {
  const session = useSession();
  const list = useKeys('');
  const [making, setMaking] = useState(false);
  const [fresh, setFresh] = useState<Fresh | null>(null);
  const [open, setOpen] = useState<Key | null>(null);
  const keys = list.data?.pages.flatMap((p) => p.keys) ?? [];
  if (list.error && !list.data) return <Trouble error={list.error} />;
  return (
    <>
      <Actions>
        <button type="button" className="btn main" onClick={() => setMaking(true)}>
          Make a key
        </button>
      </Actions>
      <Listing
        rows={keys}
        id={(k) => k.id}
        list={list}
        columns={[
          { head: 'Application', cell: (k) => k.name, className: 'strong', title: (k) => k.note },
          { head: 'Key', cell: (k) => k.id, className: 'key' },
          { head: 'Account', cell: (k) => k.account, className: 'dim' },
          { head: 'Role', cell: (k) => (k.operator ? 'operator' : k.role) },
          {
            head: 'Reaches',
            cell: (k) => (k.limits.length ? k.limits.join(', ') : <span className="faint">all of the account</span>),
            className: 'cut key max-w-190',
            title: (k) => k.limits.join(', '),
          },
          { head: 'State', cell: (k) => <State kind={states[k.state] ?? 'none'}>{k.state}</State> },
          { head: 'Expires', cell: (k) => (k.expires ? <When at={k.expires} /> : 'never'), className: 'dim' },
          {
            head: 'Last used',
            cell: (k) =>
              k.used ? (
                <>
                  <When at={k.used} /> <span className="faint">{k.usedFrom}</span>
                </>
              ) : (
                'never'
              ),
            className: 'dim',
          },
          {
            figure: true,
            cell: (k) =>
              k.operator && !session.operator ? null : (
                <button type="button" className="btn low" onClick={() => setOpen(k)}>
                  Change
                </button>
              ),
          },
        ]}
      />
      {making ? (
        <Make
          onClose={() => setMaking(false)}
          onMade={(k) => {
            setMaking(false);
            setFresh(k);
          }}
        />
      ) : null}
      {open ? (
        <Change
          k={open}
          onClose={() => setOpen(null)}
          onFresh={(k) => {
            setOpen(null);
            setFresh(k);
          }}
        />
      ) : null}
      {fresh ? (
        <Secret
          title={`The key of ${fresh.key.name}`}
          file={`${fresh.key.name}.txt`}
          onClose={() => setFresh(null)}
          says="The secret is shown this once. Whoever has it may do what the key may; nobody can look it up again."
          facts={[
            ['Address', location.origin],
            ['Key', fresh.key.id],
            ['Secret', fresh.secret ?? ''],
          ]}
        />
      ) : null}
    </>
  );
}

/** Operating the service goes with administering, and only an operator gives it. */
const operating = 'operator';
const rolesFor = (operator: boolean): [string, string][] =>
  operator ? [...roles, [operating, 'operator of the service']] : roles;
const roleOf = (r: string) => ({ role: r === operating ? 'administrator' : r, operator: r === operating });

const list = (text: string) => text.split(/[\s,]+/).filter(Boolean);

function Make({ onClose, onMade }: { onClose: () => void; onMade: (k: Fresh) => void }) {
  const session = useSession();
  const accounts = useAccounts();
  const [f, setF] = useState({
    name: '',
    note: '',
    role: 'reader' as string,
    limits: '',
    expires: '',
    account: session.account,
  });
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const make = useChange(() =>
    ask(api.POST('/api/v1/keys', { body: { ...f, ...roleOf(f.role), limits: list(f.limits) } })),
  );
  const names = accounts.data?.pages.flatMap((p) => p.accounts.map((a) => a.name)) ?? [session.account];
  return (
    <Ask
      title="Make a key"
      act="Make it"
      busy={make.isPending}
      ready={!!f.name}
      error={aboutNone(make.error, 'name', 'limits', 'expires')}
      onClose={onClose}
      onAct={() => make.mutate(undefined, { onSuccess: onMade })}
    >
      <p className="small dim">One for each application, with the rights that it needs.</p>
      <Field
        label="Application"
        value={f.name}
        onChange={set('name')}
        name="name"
        autoFocus
        error={about(make.error, 'name')}
      />
      <Choice
        label="Role"
        value={f.role}
        onChange={(v) => setF({ ...f, role: v })}
        options={rolesFor(session.operator)}
      />
      <Field
        label="Only these buckets or prefixes"
        mono
        value={f.limits}
        onChange={set('limits')}
        name="limits"
        placeholder="all of the account"
        error={about(make.error, 'limits')}
        hint="With spaces between: plates field-notes/2025/"
      />
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        <Field
          label="Expires"
          value={f.expires}
          onChange={set('expires')}
          name="expires"
          placeholder="never"
          error={about(make.error, 'expires')}
          hint="A date, or a time such as 90d."
        />
        {session.operator ? (
          <Choice
            label="Account"
            value={f.account}
            onChange={(v) => setF({ ...f, account: v })}
            options={names.map((n) => [n, n])}
          />
        ) : null}
      </div>
      <Field label="What it is for" value={f.note} onChange={set('note')} name="note" />
    </Ask>
  );
}

function Change({ k, onClose, onFresh }: { k: Key; onClose: () => void; onFresh: (k: Fresh) => void }) {
  const toast = useToast();
  const session = useSession();
  const [f, setF] = useState({
    note: k.note ?? '',
    role: k.operator ? operating : (k.role as string),
    limits: k.limits.join(' '),
    expires: k.expires ?? '',
  });
  const [going, setGoing] = useState(false);
  const [typed, setTyped] = useState('');
  const [grace, setGrace] = useState('24h');
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const path = { key: k.id };
  const save = useChange((active: boolean) =>
    ask(
      api.PATCH('/api/v1/keys/{key}', {
        params: { path },
        body: {
          ...f,
          ...(session.operator ? roleOf(f.role) : { role: f.role }),
          limits: list(f.limits),
          active,
          ifRevision: k.revision,
        },
      }),
    ),
  );
  const replace = useChange(() => ask(api.POST('/api/v1/keys/{key}/replace', { params: { path }, body: { grace } })));
  const remove = useChange(() => ask(api.DELETE('/api/v1/keys/{key}', { params: { path } })));
  const said = (what: string) => ({
    onSuccess: () => {
      toast(what);
      onClose();
    },
  });
  if (going)
    return (
      <Ask
        title={`Remove the key of ${k.name}?`}
        act="Remove it"
        harm
        busy={remove.isPending}
        ready={typed === k.id}
        error={remove.error}
        onClose={() => setGoing(false)}
        onAct={() => remove.mutate(undefined, said(`The key ${k.id} is gone`))}
      >
        <p>
          It{' '}
          {k.used ? (
            <>
              was last used {moment(new Date(k.used))} from {k.usedFrom}
            </>
          ) : (
            'was never used'
          )}
          . What it signed, links too, works no more, and it cannot be brought back. To find out who misses it, switch
          it off first.
        </p>
        <Field
          label={`Type ${k.id} to go on`}
          mono
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
          name="typed"
        />
      </Ask>
    );
  return (
    <Ask
      title={`The key of ${k.name}`}
      act="Save"
      busy={save.isPending}
      error={aboutNone(save.error, 'limits', 'expires') ?? replace.error}
      onClose={onClose}
      onAct={() => save.mutate(k.active, said('Saved'))}
    >
      <p className="small dim">
        <span className="key">{k.id}</span>, made {moment(new Date(k.created))} by {k.createdBy}
        {k.replacedBy ? (
          <>
            , replaced by <span className="key">{k.replacedBy}</span>
          </>
        ) : null}
      </p>
      <Choice
        label="Role"
        value={f.role}
        onChange={(v) => setF({ ...f, role: v })}
        options={rolesFor(session.operator)}
      />
      <Field
        label="Only these buckets or prefixes"
        mono
        value={f.limits}
        onChange={set('limits')}
        name="limits"
        placeholder="all of the account"
        error={about(save.error, 'limits')}
      />
      <Field
        label="Expires"
        value={f.expires}
        onChange={set('expires')}
        name="expires"
        placeholder="never"
        error={about(save.error, 'expires')}
      />
      <Field label="What it is for" value={f.note} onChange={set('note')} name="note" />
      <div className="row border-t border-t-hairline pt-12 flex-wrap">
        <button
          type="button"
          className="btn"
          disabled={save.isPending}
          onClick={() => save.mutate(!k.active, said(k.active ? 'It is switched off' : 'It is switched on'))}
        >
          Switch {k.active ? 'off' : 'on'}
        </button>
        <button
          type="button"
          className="btn"
          disabled={replace.isPending}
          onClick={() => replace.mutate(undefined, { onSuccess: onFresh })}
        >
          Replace; this one works
        </button>
        <Select
          className="field sel w-auto"
          value={grace}
          onChange={setGrace}
          label="How long the old one works"
          options={graces}
        />
        <button type="button" className="btn harm ml-auto" onClick={() => setGoing(true)}>
          Remove
        </button>
      </div>
    </Ask>
  );
}

const graces = [
  ['0', 'no longer'],
  ['1h', '1 hour more'],
  ['24h', '1 day more'],
  ['7d', '7 days more'],
] as const;
