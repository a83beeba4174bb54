import type { ChangeEventHandler } from 'react';

import { Field, type FieldProps } from './Bits';

/** Narrows what a rule or a job is about by an expression of find. */
export const WhereField = ({
  value,
  onChange,
  error,
}: {
  value: string;
  onChange: ChangeEventHandler<HTMLInputElement>;
  error: FieldProps['error'];
}) => (
  <Field
    className="mt-10"
    label="Only where"
    mono
    value={value}
    onChange={onChange}
    name="where"
    placeholder="all objects, or an expression of find: field taxon begins with Drosera and size over 1 MiB"
    error={error}
  />
);
