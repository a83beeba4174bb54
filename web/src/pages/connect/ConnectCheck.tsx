import { useMutation } from '@tanstack/react-query';
import { type FormEvent, useEffect } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useBuckets } from '../../data/queries';
import { Field, Section, Trouble } from '../../parts/Bits';
import { Shape, State, type StateKind } from '../../parts/Marks';
import { time } from '../../parts/format';
import { Select, same } from '../../parts/Select';
import { useFields } from '../../parts/useFields';

export type Style = 'path' | 'host';

const kinds: Record<string, StateKind> = { agrees: 'good', wrong: 'wrong', 'not tried': 'wait', 'not used': 'none' };

const names: Record<string, string> = {
  address: 'Address',
  port: 'Port',
  protocol: 'Protocol',
  certificate: 'Certificate',
  clock: 'Clock',
  region: 'Region',
  style: 'Style',
  key: 'Key',
  bucket: 'Bucket',
  'there-and-back': 'There and back',
};

interface CheckProps {
  address: string;
  region: string;
  style: Style;
  ownKey: string;
}

/** Looks at a client's settings one by one, from the service's machine. */
export function ConnectCheck(p: CheckProps) {
  const buckets = useBuckets();
  const first = buckets.data?.[0]?.name ?? '';
  const [form, set, fields] = useFields({
    address: p.address,
    style: p.style,
    region: p.region,
    key: p.ownKey,
    secret: '',
    bucket: '',
  });
  const of = fields(null);
  useEffect(() => set({ style: p.style }), [set, p.style]);
  useEffect(() => set((f) => (f.bucket ? {} : { bucket: first })), [set, first]);
  const check = useMutation({
    mutationFn: (write: boolean) => ask(api.POST('/api/v1/check', { body: { ...form, write } })),
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    check.mutate(false);
  };
  const wrong = check.data?.findings.find((f) => f.result === 'wrong');
  return (
    <Section title="Check a client's settings" aside="exactly as that client has them">
      <form className="grid grid-cols-[repeat(6,minmax(0,1fr))] gap-8 pt-12 items-end" onSubmit={submit}>
        <div className="col-span-4">
          <Field label="Address" mono {...of('address')} />
        </div>
        <div>
          <label className="label" htmlFor="style">
            Style
          </label>
          <Select
            className="field sel w-full"
            id="style"
            value={form.style}
            onChange={(style) => set({ style: style as Style })}
            options={same(['path', 'host'])}
          />
        </div>
        <Field label="Region" mono {...of('region')} />
        <div className="col-span-2">
          <Field label="Key" mono {...of('key')} />
        </div>
        <div className="col-span-2">
          <Field
            label="Secret"
            type="password"
            {...of('secret')}
            placeholder={form.key && form.key === p.ownKey ? 'known for your own key' : ''}
            autoComplete="off"
          />
        </div>
        <Field label="Bucket to try" mono {...of('bucket')} />
        <button type="submit" className="btn main" disabled={check.isPending}>
          {check.isPending ? 'Checking' : 'Check'}
        </button>
      </form>
      {check.error ? (
        <div className="mt-12">
          <Trouble error={check.error} />
        </div>
      ) : null}
      {wrong ? (
        <div className="note wrong mt-12" role="alert">
          <b className="strong">{names[wrong.field]} is wrong.</b> {cap(wrong.seen)}.{' '}
          {wrong.address ? '' : cap(wrong.remedy ?? '') + '.'}{' '}
          {wrong.address ? (
            <button type="button" className="btn low" onClick={() => set({ address: wrong.address! })}>
              Use {wrong.address}
            </button>
          ) : null}
        </div>
      ) : null}
      {check.data ? (
        <Findings report={check.data} onTry={() => check.mutate(true)} />
      ) : (
        <p className="empty faint border-0">
          Nothing was checked yet. What is wrong will be named: address, port, protocol, certificate, clock, region,
          style, key or bucket.
        </p>
      )}
    </Section>
  );
}

const cap = (s: string) => (s ? s[0]!.toUpperCase() + s.slice(1) : '');

const Findings = ({ report, onTry }: { report: Schemas['Report']; onTry: () => void }) => (
  <table className="open mt-10">
    <thead>
      <tr>
        <th className="w-116">Field</th>
        <th className="w-100">Result</th>
        <th>What was seen, at {time(new Date(report.at))}</th>
      </tr>
    </thead>
    <tbody>
      {report.findings.map((f) => (
        <tr key={f.field}>
          <td>{names[f.field]}</td>
          <td className={f.result === 'not used' ? 'faint' : ''}>
            {f.result === 'wrong' ? (
              <span className="state wrong">
                <Shape kind="wrong" />
                <b className="strong">wrong</b>
              </span>
            ) : (
              <State kind={kinds[f.result]!}>{f.result}</State>
            )}
          </td>
          <td className={f.result === 'agrees' || f.result === 'wrong' ? '' : 'dim'}>
            {f.seen}{' '}
            {f.field === 'there-and-back' && f.result === 'not tried' && f.seen ? (
              <button type="button" className="link" onClick={onTry}>
                Try
              </button>
            ) : null}
          </td>
        </tr>
      ))}
    </tbody>
  </table>
);
