import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useAccounts } from '../../data/access';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field } from '../../parts/Bits';
import { Ask, Choice, about } from '../../parts/Form';
import { KeyFields, prefixes, roleOf } from './KeyFields';

type Fresh = Schemas['KeySecret'];

/** Makes a key; what comes back has its secret, once. */
export function MakeKey({ onClose, onMade }: { onClose: () => void; onMade: (k: Fresh) => void }) {
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
  const make = useChange(() =>
    ask(api.POST('/api/v1/keys', { body: { ...f, ...roleOf(f.role), limits: prefixes(f.limits) } })),
  );
  const names = accounts.data?.pages.flatMap((p) => p.accounts.map((a) => a.name)) ?? [session.account];
  return (
    <Ask
      title="Make a key"
      act="Make it"
      busy={make.isPending}
      ready={!!f.name}
      error={make.error}
      onClose={onClose}
      onAct={() => make.mutate(undefined, { onSuccess: onMade })}
    >
      <p className="small dim">One for each application, with the rights that it needs.</p>
      <Field
        label="Application"
        value={f.name}
        onChange={(e) => setF({ ...f, name: e.target.value })}
        name="name"
        autoFocus
        error={about(make.error, 'name')}
      />
      {session.operator ? (
        <Choice
          label="Account"
          value={f.account}
          onChange={(v) => setF({ ...f, account: v })}
          options={names.map((n) => [n, n])}
        />
      ) : null}
      <KeyFields form={f} onChange={setF} operator={session.operator} error={make.error} />
    </Ask>
  );
}
