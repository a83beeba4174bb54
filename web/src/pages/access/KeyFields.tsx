import { Field } from '../../parts/Bits';
import { Choice, about } from '../../parts/Form';
import { fieldsOf } from '../../parts/useFields';

export const roles: [string, string][] = [
  ['reader', 'reader: lists and reads'],
  ['writer', 'writer: also writes and removes'],
  ['administrator', 'administrator: also settings, keys, grants'],
];

/** Operating the service goes with administering, and only an operator gives it. */
export const operating = 'operator';
const rolesFor = (operator: boolean): [string, string][] =>
  operator ? [...roles, [operating, 'operator of the service']] : roles;
export const roleOf = (r: string) => ({ role: r === operating ? 'administrator' : r, operator: r === operating });

export const prefixes = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** What the forms of a key hold. */
export interface KeyForm {
  note: string;
  role: string;
  limits: string;
  expires: string;
}

interface Props<F extends KeyForm> {
  form: F;
  onChange: (f: F) => void;
  operator: boolean;
  error: unknown;
}

/** The fields that making and changing a key share. */
export function KeyFields<F extends KeyForm>({ form, onChange, operator, error }: Props<F>) {
  const of = fieldsOf<KeyForm>(
    form,
    (change) => onChange({ ...form, ...change }),
    (name) => about(error, name),
  );
  return (
    <>
      <Choice
        label="Role"
        value={form.role}
        onChange={(v) => onChange({ ...form, role: v })}
        options={rolesFor(operator)}
      />
      <Field
        label="Only these buckets or prefixes"
        mono
        {...of('limits')}
        placeholder="all of the account"
        hint="With spaces between: plates field-notes/2025/"
      />
      <Field label="Expires" {...of('expires')} placeholder="never" hint="A date, or a time such as 90d." />
      <Field label="What it is for" {...of('note')} />
    </>
  );
}
