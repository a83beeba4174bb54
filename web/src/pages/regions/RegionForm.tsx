import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask, about, aboutNone } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';

export function RegionForm({ onClose }: { onClose: () => void }) {
  const toast = useToast();
  const [f, setF] = useState({ desk: '', key: '', secret: '', note: '' });
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const add = useChange(() => ask(api.POST('/api/v1/regions', { body: f })));
  return (
    <Ask
      title="Add a region"
      act="Ask it, and add it"
      busy={add.isPending}
      ready={!!f.desk && !!f.key && !!f.secret}
      error={aboutNone(add.error, 'desk', 'key', 'secret', 'note')}
      onClose={onClose}
      onAct={() =>
        add.mutate(undefined, {
          onSuccess: (r) => {
            toast(`The region ${r.name} is known`);
            onClose();
          },
        })
      }
    >
      <Field
        label="Address of its console"
        mono
        value={f.desk}
        onChange={set('desk')}
        name="desk"
        placeholder="https://desk.moor.example"
        autoFocus
        error={about(add.error, 'desk')}
        hint="What it is called, and where its clients reach it, is asked of it."
      />
      <Field
        label="Id of an operator’s key there"
        mono
        value={f.key}
        onChange={set('key')}
        name="key"
        error={about(add.error, 'key')}
      />
      <Field
        label="Its secret"
        type="password"
        value={f.secret}
        onChange={set('secret')}
        name="secret"
        error={about(add.error, 'secret')}
      />
      <Field label="What it is" value={f.note} onChange={set('note')} name="note" error={about(add.error, 'note')} />
    </Ask>
  );
}
