import { useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field } from '../../parts/Bits';
import { Ask } from '../../parts/Form';
import { Select } from '../../parts/Select';
import { useToast } from '../../parts/Toasts';
import { moment } from '../../parts/format';
import { KeyFields, operating, prefixes, roleOf } from './KeyFields';

type Key = Schemas['KeyInfo'];
type Fresh = Schemas['KeySecret'];

/** Changes a key, switches it, replaces it or removes it. */
export function ChangeKey({ k, onClose, onFresh }: { k: Key; onClose: () => void; onFresh: (k: Fresh) => void }) {
  const toast = useToast();
  const session = useSession();
  const [f, setF] = useState({
    note: k.note ?? '',
    role: k.operator ? operating : (k.role as string),
    limits: k.limits.join(' '),
    expires: k.expires ?? '',
  });
  const [going, setGoing] = useState(false);
  const [grace, setGrace] = useState('24h');
  const path = { key: k.id };
  const save = useChange((active: boolean) =>
    ask(
      api.PATCH('/api/v1/keys/{key}', {
        params: { path },
        body: {
          ...f,
          ...(session.operator ? roleOf(f.role) : { role: f.role }),
          limits: prefixes(f.limits),
          active,
          ifRevision: k.revision,
        },
      }),
    ),
  );
  const replace = useChange(() => ask(api.POST('/api/v1/keys/{key}/replace', { params: { path }, body: { grace } })));
  const said = (what: string) => () => {
    toast(what);
    onClose();
  };
  if (going) return <RemoveKey k={k} onClose={() => setGoing(false)} onGone={said(`The key ${k.id} is gone`)} />;
  return (
    <Ask
      title={`The key of ${k.name}`}
      act="Save"
      busy={save.isPending}
      error={save.error ?? replace.error}
      onClose={onClose}
      onAct={() => save.mutate(k.active, { onSuccess: said('Saved') })}
    >
      <p className="small dim">
        <span className="key">{k.id}</span>, made {moment(new Date(k.created))} by {k.createdBy}
        {k.replacedBy ? (
          <>
            , replaced by <span className="key">{k.replacedBy}</span>
          </>
        ) : null}
      </p>
      <KeyFields form={f} onChange={setF} operator={session.operator} error={save.error} />
      <div className="row border-t border-t-hairline pt-12 flex-wrap">
        <button
          type="button"
          className="btn"
          disabled={save.isPending}
          onClick={() =>
            save.mutate(!k.active, { onSuccess: said(k.active ? 'It is switched off' : 'It is switched on') })
          }
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

function RemoveKey({ k, onClose, onGone }: { k: Key; onClose: () => void; onGone: () => void }) {
  const [typed, setTyped] = useState('');
  const remove = useChange(() => ask(api.DELETE('/api/v1/keys/{key}', { params: { path: { key: k.id } } })));
  return (
    <Ask
      title={`Remove the key of ${k.name}?`}
      act="Remove it"
      harm
      busy={remove.isPending}
      ready={typed === k.id}
      error={remove.error}
      onClose={onClose}
      onAct={() => remove.mutate(undefined, { onSuccess: onGone })}
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
        . What it signed, links too, works no more, and it cannot be brought back. To find out who misses it, switch it
        off first.
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
}

const graces = [
  ['0', 'no longer'],
  ['1h', '1 hour more'],
  ['24h', '1 day more'],
  ['7d', '7 days more'],
] as const;
