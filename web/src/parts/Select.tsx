import { Select as Radix } from 'radix-ui';

import { icons } from './Marks';
import { nonce } from './nonce';

interface Props {
  value: string;
  onChange: (value: string) => void;
  /** Values with their names. */
  options: readonly (readonly [string, string])[];
  /** What is chosen, for those who hear the page; not needed beneath a label with its id. */
  label?: string;
  id?: string;
  className?: string;
}

// The library keeps "" for nothing chosen; here it is often a choice like "all buckets".
const none = '\u0000';

/** A choice of one of several. */
export const Select = ({ value, onChange, options, label, id, className = 'field sel' }: Props) => (
  <Radix.Root value={value || none} onValueChange={(v) => onChange(v === none ? '' : v)}>
    <Radix.Trigger id={id} className={className} aria-label={label}>
      <span className="truncate">
        <Radix.Value />
      </span>
    </Radix.Trigger>
    <Radix.Portal>
      <Radix.Content className="menu choices" position="popper" sideOffset={3}>
        <Radix.Viewport nonce={nonce}>
          {options.map(([v, name]) => (
            <Radix.Item key={v} value={v || none}>
              <Radix.ItemText>{name}</Radix.ItemText>
              <Radix.ItemIndicator className="ml-auto pl-8">{icons.tick}</Radix.ItemIndicator>
            </Radix.Item>
          ))}
        </Radix.Viewport>
      </Radix.Content>
    </Radix.Portal>
  </Radix.Root>
);

/** Options whose names are their values. */
export const same = (values: readonly string[]) => values.map((v) => [v, v] as const);

/** Since when, for lists of what happened. */
export const sinces = [
  ['', 'all time'],
  ['1h', 'last hour'],
  ['24h', 'last day'],
  ['7d', 'last 7 days'],
  ['30d', 'last 30 days'],
] as const;
