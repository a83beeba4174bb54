import { useCallback, useState } from 'react';

import { about } from './Form';

type Texts<T> = { [K in keyof T]: T[K] extends string ? K : never }[keyof T] & string;

/**
 * Gives what makes a Field that of a text in a form: its name and value, how it changes, and what is wrong with it,
 * or with what else the field stands for.
 */
export const fieldsOf =
  <T extends object>(values: T, set: (change: Partial<T>) => void, wrong: (name: string) => unknown) =>
  (name: Texts<T>, ...also: string[]) => ({
    name,
    value: values[name] as string,
    onChange: (e: { target: { value: string } }) => set({ [name]: e.target.value } as Partial<T>),
    error: [name, ...also].map(wrong).find(Boolean),
  });

/** What is in a form, how some of it is set, and the fields of its texts once it is known what is wrong. */
export function useFields<T extends object>(first: T) {
  const [values, setValues] = useState(first);
  const set = useCallback(
    (change: Partial<T> | ((was: T) => Partial<T>)) =>
      setValues((was) => ({ ...was, ...(typeof change === 'function' ? change(was) : change) })),
    [],
  );
  const fields = (error: unknown) => fieldsOf(values, set, (name) => about(error, name));
  return [values, set, fields] as const;
}
