import { Switch as Radix } from 'radix-ui';
import type { ReactNode } from 'react';

interface Props {
  on: boolean;
  onChange: (on: boolean) => void;
  disabled?: boolean;
  children: ReactNode;
}

/** A bead drawn along a thread, with what it says. */
export const Switch = ({ on, onChange, disabled, children }: Props) => (
  <Radix.Root className={`switch ${on ? 'on' : ''}`} checked={on} onCheckedChange={onChange} disabled={disabled}>
    <Radix.Thumb asChild>
      <i />
    </Radix.Thumb>
    <span>{children}</span>
  </Radix.Root>
);
