import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useSaved } from '../../data/find';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Ask, about, aboutNone } from '../../parts/Form';
import { useToast } from '../../parts/Toasts';
import { visible } from '../../parts/format';

/** The questions that the account keeps. */
export function Kept({ onChoose }: { onChoose: (q: string, versions: boolean) => void }) {
  const kept = useSaved();
  const toast = useToast();
  const forget = useChange((name: string) =>
    ask(api.DELETE('/api/v1/find/saved/{name}', { params: { path: { name } } })),
  );
  if (!kept.data?.length) return null;
  return (
    <section className="mb-22">
      <h2 className="mb-8">Kept</h2>
      <ul className="grid gap-6">
        {kept.data.map((f) => (
          <li key={f.name} className="row">
            <button type="button" className="btn low" onClick={() => onChoose(f.expression, !!f.versions)}>
              {f.name}
            </button>
            <span className="key cut max-w-720">{visible(f.expression)}</span>
            <button
              type="button"
              className="link"
              onClick={() => forget.mutate(f.name, { onSuccess: () => toast(`The question ${f.name} is forgotten`) })}
            >
              Forget
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Keeps a question under a name. */
export function KeepIt({
  expression,
  versions,
  onClose,
}: {
  expression: string;
  versions: boolean;
  onClose: () => void;
}) {
  const [name, setName] = useState('');
  const toast = useToast();
  const save = useChange(() =>
    ask(api.PUT('/api/v1/find/saved/{name}', { params: { path: { name } }, body: { expression, versions } })),
  );
  return (
    <Ask
      title="Keep the question"
      act="Keep the question"
      busy={save.isPending}
      ready={!!name}
      error={aboutNone(save.error, 'name')}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: () => {
            toast(`The question ${name} is kept`);
            onClose();
          },
        })
      }
    >
      <p className="key small">{expression}</p>
      <Field
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        name="name"
        autoFocus
        error={about(save.error, 'name')}
        hint="Small letters, digits and hyphens; one that is there is replaced"
      />
    </Ask>
  );
}
