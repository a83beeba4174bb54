import { Field, type FieldProps } from './Bits';

/** Narrows what a rule or a job is about by an expression of find. */
export const WhereField = (field: Pick<FieldProps, 'name' | 'value' | 'onChange' | 'error' | 'className'>) => (
  <Field
    label="Only where"
    mono
    placeholder="all objects, or an expression of find: field taxon begins with Drosera and size over 1 MiB"
    {...field}
  />
);
