import { Checkbox, RadioGroup } from 'radix-ui';

import { Field } from '../../parts/Bits';
import { about } from '../../parts/Form';

export interface SealingChoice {
  sealing: 'none' | 'content' | 'names';
  passphrase: string;
  again: string;
  kept: boolean;
}

const ways = [
  ['none', 'Objects leave as they are.'],
  ['content', 'Contents and metadata are sealed before they leave; names are kept as they are.'],
  ['names', 'Contents, metadata and names are sealed: the other side sees sizes and times alone.'],
] as const;

/** What is said of a sealing that is asked for, in a call. */
export const sealingAsked = (c: SealingChoice, was: string) => ({
  ...(c.sealing === was && !c.passphrase ? {} : { sealing: c.sealing }),
  ...(c.sealing !== 'none' && c.passphrase ? { passphrase: c.passphrase, passphraseKept: c.kept } : {}),
});

export const sealingReady = (c: SealingChoice, was: string) =>
  c.sealing === 'none' ||
  (c.sealing === was && !c.passphrase) ||
  (!!c.passphrase && c.passphrase === c.again && c.kept);

/** Whether and how what leaves is sealed, with a passphrase that somebody keeps. */
export function Sealing({
  value: c,
  was,
  error,
  onChange,
}: {
  value: SealingChoice;
  was: string;
  error: unknown;
  onChange: (c: SealingChoice) => void;
}) {
  const asks = c.sealing !== 'none' && c.sealing !== was;
  return (
    <div className="grid gap-8">
      <span className="label">Sealing</span>
      <RadioGroup.Root
        className="grid gap-6"
        value={c.sealing}
        onValueChange={(v) => onChange({ ...c, sealing: v as SealingChoice['sealing'] })}
        aria-label="Sealing"
      >
        {ways.map(([way, says]) => (
          <label key={way} className="row items-start cursor-pointer">
            <RadioGroup.Item value={way} className={`radio ${c.sealing === way ? 'on' : ''} mt-3`} aria-label={way} />
            <span className="small dim">{says}</span>
          </label>
        ))}
      </RadioGroup.Root>
      {asks ? (
        <>
          <div className="grid grid-cols-[1fr_1fr] gap-12">
            <Field
              label="Passphrase"
              type="password"
              autoComplete="new-password"
              name="passphrase"
              value={c.passphrase}
              onChange={(e) => onChange({ ...c, passphrase: e.target.value })}
              error={about(error, 'passphrase')}
              hint="Several words that nobody would guess together. Where the target is sealed already: that one."
            />
            <Field
              label="Once more"
              type="password"
              autoComplete="new-password"
              name="again"
              value={c.again}
              onChange={(e) => onChange({ ...c, again: e.target.value })}
              hint={c.again && c.again !== c.passphrase ? 'The two are not the same.' : undefined}
            />
          </div>
          <label className="row items-start cursor-pointer">
            <Checkbox.Root
              className="check mt-3"
              checked={c.kept}
              onCheckedChange={(v) => onChange({ ...c, kept: v === true })}
              aria-label="I keep the passphrase"
            />
            <span className="small">
              I keep the passphrase where the service is not. <b className="strong">Losing it loses what is sealed</b>:
              nobody can bring it back.
            </span>
          </label>
        </>
      ) : null}
    </div>
  );
}
