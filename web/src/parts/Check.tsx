import { Checkbox } from 'radix-ui';
import type { ReactNode } from 'react';

interface Props {
  on: boolean;
  onChange: (on: boolean) => void;
  label: string; // for those who hear it
  children: ReactNode;
}

/** A box that is ticked, with what that says. */
export const Check = ({ on, onChange, label, children }: Props) => (
  <label className="row cursor-pointer">
    <Checkbox.Root className="check" checked={on} onCheckedChange={(v) => onChange(v === true)} aria-label={label} />
    <span>{children}</span>
  </label>
);
