import { useState } from 'react';

import { useChange } from '../data/queries';
import { Field } from './Bits';
import { Ask, about } from './Form';
import { useToast } from './Toasts';
import { visible } from './format';

interface Thing {
  name: string;
  says: string;
}

interface KeptProps<T extends Thing> {
  things?: T[];
  onChoose: (t: T) => void;
  forget: (name: string) => Promise<unknown>;
}

/** What the account keeps under names. */
export function Kept<T extends Thing>({ things, onChoose, forget }: KeptProps<T>) {
  const toast = useToast();
  const forgetting = useChange(forget);
  if (!things?.length) return null;
  return (
    <section className="mb-22">
      <h2 className="mb-8">Kept</h2>
      <ul className="grid gap-6">
        {things.map((f) => (
          <li key={f.name} className="row">
            <button type="button" className="btn low" onClick={() => onChoose(f)}>
              {f.name}
            </button>
            <span className="key cut max-w-720">{visible(f.says)}</span>
            <button
              type="button"
              className="link"
              onClick={() => forgetting.mutate(f.name, { onSuccess: () => toast(`${f.name} is forgotten`) })}
            >
              Forget
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}

interface KeepProps {
  what: string;
  says: string;
  save: (name: string) => Promise<unknown>;
  onClose: () => void;
}

/** Keeps something under a name. */
export function KeepIt({ what, says, save, onClose }: KeepProps) {
  const [name, setName] = useState('');
  const toast = useToast();
  const saving = useChange(() => save(name));
  return (
    <Ask
      title={`Keep the ${what}`}
      act={`Keep the ${what}`}
      busy={saving.isPending}
      ready={!!name}
      error={saving.error}
      onClose={onClose}
      onAct={() =>
        saving.mutate(undefined, {
          onSuccess: () => {
            toast(`The ${what} ${name} is kept`);
            onClose();
          },
        })
      }
    >
      <p className="key small">{says}</p>
      <Field
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        name="name"
        autoFocus
        error={about(saving.error, 'name')}
        hint="Small letters, digits and hyphens; one that is there is replaced"
      />
    </Ask>
  );
}
