import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useAccounts } from '../../data/access';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field } from '../../parts/Bits';
import { useToast } from '../../parts/Toasts';
import { Ask, Choice, about } from '../../parts/Form';
import { Check } from '../../parts/Check';

export type Person = Schemas['PersonInfo'];
type Role = Schemas['RoleIn']['role'];

const roles: [string, string][] = [
  ['none', 'no role'],
  ['reader', 'reader'],
  ['writer', 'writer'],
  ['administrator', 'administrator'],
];

export const says = (p: Person) =>
  [p.operator ? 'operator of the service' : '', ...p.roles.map((r) => `${r.role} in ${r.account}`)]
    .filter(Boolean)
    .join(', ');

/** The accounts in which one may give roles. */
function useGiven(): string[] {
  const session = useSession();
  const accounts = useAccounts();
  return session.operator
    ? (accounts.data?.pages.flatMap((p) => p.accounts.map((a) => a.name)) ?? [session.account])
    : [session.account];
}

export function Roles({
  accounts,
  value,
  onChange,
}: {
  accounts: string[];
  value: Record<string, string>;
  onChange: (v: Record<string, string>) => void;
}) {
  return (
    <div className="grid grid-cols-[repeat(3,minmax(0,1fr))] gap-12">
      {accounts.map((a) => (
        <Choice
          key={a}
          label={`In ${a}`}
          value={value[a] ?? 'none'}
          onChange={(v) => onChange({ ...value, [a]: v })}
          options={roles}
        />
      ))}
    </div>
  );
}

const given = (v: Record<string, string>) =>
  Object.entries(v).map(([account, role]) => ({ account, role: role as Role }));

export function MakePerson({ onClose, onMade }: { onClose: () => void; onMade: (p: Schemas['PersonSecret']) => void }) {
  const session = useSession();
  const accounts = useGiven();
  const [name, setName] = useState('');
  const [note, setNote] = useState('');
  const [operator, setOperator] = useState(false);
  const [role, setRole] = useState<Record<string, string>>({ [session.account]: 'reader' });
  const make = useChange(() =>
    ask(
      api.POST('/api/v1/people', {
        body: { name, note, operator, roles: given(role).filter((r) => (r.role as string) !== 'none') },
      }),
    ),
  );
  return (
    <Ask
      title="Let somebody sign in"
      act="Create"
      busy={make.isPending}
      ready={!!name}
      error={make.error}
      onClose={onClose}
      onAct={() => make.mutate(undefined, { onSuccess: onMade })}
    >
      <Field
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        name="name"
        autoFocus
        error={about(make.error, 'name')}
        hint="As people write it. A password is made and shown once."
      />
      <Roles accounts={accounts} value={role} onChange={setRole} />
      {session.operator ? (
        <Check on={operator} onChange={setOperator} label="Operates the service">
          Operates the service: all accounts, and the master key
        </Check>
      ) : null}
      <Field label="Note" value={note} onChange={(e) => setNote(e.target.value)} name="note" />
    </Ask>
  );
}

export function ChangePerson({
  p,
  onClose,
  onFresh,
}: {
  p: Person;
  onClose: () => void;
  onFresh: (p: Schemas['PersonSecret']) => void;
}) {
  const session = useSession();
  const toast = useToast();
  const accounts = useGiven();
  const [role, setRole] = useState<Record<string, string>>(Object.fromEntries(p.roles.map((r) => [r.account, r.role])));
  const [going, setGoing] = useState(false);
  const path = { person: p.name };
  const changed = given(role).filter(
    (r) => accounts.includes(r.account) && (p.roles.find((x) => x.account === r.account)?.role ?? 'none') !== r.role,
  );
  const save = useChange((body: { active?: boolean; unlock?: boolean; operator?: boolean; roles?: typeof changed }) =>
    ask(api.PATCH('/api/v1/people/{person}', { params: { path }, body: { ...body, ifRevision: p.revision } })),
  );
  const reset = useChange(() => ask(api.POST('/api/v1/people/{person}/reset', { params: { path }, body: {} })));
  const remove = useChange(() => ask(api.DELETE('/api/v1/people/{person}', { params: { path } })));
  const said = (what: string) => ({
    onSuccess: () => {
      toast(what);
      onClose();
    },
  });
  if (going)
    return (
      <Ask
        title={`Remove ${p.name}?`}
        act="Remove"
        harm
        busy={remove.isPending}
        error={remove.error}
        onClose={() => setGoing(false)}
        onAct={() => remove.mutate(undefined, said(`${p.name} signs in no more`))}
      >
        <p>
          {p.name} is {says(p)}. Sessions end at once, and what was granted to the name goes too. What they did stays in
          the journal and the trail.
        </p>
      </Ask>
    );
  return (
    <Ask
      title={p.name}
      act="Save"
      busy={save.isPending}
      ready={changed.length > 0}
      error={save.error ?? reset.error}
      onClose={onClose}
      onAct={() => save.mutate({ roles: changed }, said('Saved'))}
    >
      <p className="small dim">
        {says(p)}
        {p.note ? `; ${p.note}` : ''}
      </p>
      <Roles accounts={accounts} value={role} onChange={setRole} />
      <div className="row border-t border-t-hairline pt-12 flex-wrap">
        <button
          type="button"
          className="btn"
          onClick={() =>
            save.mutate({ active: !p.active }, said(p.active ? `${p.name} is switched off` : `${p.name} may sign in`))
          }
        >
          Switch {p.active ? 'off' : 'on'}
        </button>
        {p.locked ? (
          <button type="button" className="btn" onClick={() => save.mutate({ unlock: true }, said('Unlocked'))}>
            Unlock
          </button>
        ) : null}
        {session.operator ? (
          <button type="button" className="btn" onClick={() => save.mutate({ operator: !p.operator }, said('Saved'))}>
            {p.operator ? 'No longer operator' : 'Make operator'}
          </button>
        ) : null}
        <button
          type="button"
          className="btn"
          disabled={reset.isPending}
          onClick={() => reset.mutate(undefined, { onSuccess: onFresh })}
        >
          New password
        </button>
        <button type="button" className="btn harm ml-auto" onClick={() => setGoing(true)}>
          Remove
        </button>
      </div>
    </Ask>
  );
}
