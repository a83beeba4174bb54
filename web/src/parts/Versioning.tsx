import { RadioGroup } from 'radix-ui';

import type { Schemas } from '../api/client';

export type Versioning = Schemas['BucketInfo']['versioning'];

const says: Record<Versioning, string> = {
  on: 'What is replaced, deleted or renamed stays as a previous version and can be brought back. It takes room.',
  paused: 'Versions that are there stay. From now on changes replace, and what they replace is gone.',
  off: 'What is replaced or removed is gone at once.',
};

interface Props {
  value: Versioning;
  onChange: (v: Versioning) => void;
  states: Versioning[];
}

/** The choice of a bucket's versioning, each with what it means. */
export const VersioningChoice = ({ value, onChange, states }: Props) => (
  <div>
    <span className="label">Versioning</span>
    <RadioGroup.Root
      className="grid gap-6"
      value={value}
      onValueChange={(v) => onChange(v as Versioning)}
      aria-label="Versioning"
    >
      {states.map((s) => (
        <label key={s} className="row items-start cursor-pointer">
          <RadioGroup.Item value={s} className={`radio ${value === s ? 'on' : ''} mt-3`} aria-label={s} />
          <span>
            <b className="strong">{s}</b> <span className="small dim">{says[s]}</span>
          </span>
        </label>
      ))}
    </RadioGroup.Root>
  </div>
);
