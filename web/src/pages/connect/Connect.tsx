import { useMutation } from '@tanstack/react-query';
import { ToggleGroup } from 'radix-ui';
import { type FormEvent, useEffect, useState } from 'react';

import { type Schemas, api, ask } from '../../api/client';
import { useBuckets, useService } from '../../data/queries';
import { useSession } from '../../data/session';
import { CopyButton, Field, Section, Trouble } from '../../parts/Bits';
import { Shape, State, type StateKind } from '../../parts/Marks';
import { time } from '../../parts/format';
import { Select, same } from '../../parts/Select';

type Style = 'path' | 'host';

export default function Connect() {
  const service = useService();
  const session = useSession();
  const [style, setStyle] = useState<Style>('path');
  if (service.error) return <Trouble error={service.error} />;
  if (!service.data) return <p className="faint">Reading</p>;
  const { wire, region } = service.data;
  const host = new URL(wire.url).host;
  const domain = wire.domains[0] ?? 'localhost';
  const command = `spindle connect ${location.origin} \\\n  --key ${session.key ?? 'KEY'}\nspindle object put ./sheet.tif plates/`;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Connect a client</h1>
          <p className="meta">
            Anything that speaks the wire can read and write here with four facts: address, style, region, key.
          </p>
        </div>
      </div>
      <div className="columns grid grid-cols-[minmax(0,1fr)_minmax(0,1.2fr)] gap-y-16 gap-x-34">
        <div className="grid gap-16 content-start">
          <Section title="The four facts">
            <table className="open">
              <tbody>
                <Fact name="Address" value={wire.url} note={wire.scheme === 'https' ? 'TLS' : 'plain HTTP'} />
                <tr>
                  <td className="faint w-84">Style</td>
                  <td className="py-10 px-8">
                    <ToggleGroup.Root
                      type="single"
                      className="seg"
                      value={style}
                      onValueChange={(v) => v && setStyle(v as Style)}
                      aria-label="Style of addresses"
                    >
                      <ToggleGroup.Item value="path">path</ToggleGroup.Item>
                      <ToggleGroup.Item value="host">host</ToggleGroup.Item>
                    </ToggleGroup.Root>
                    <div className="small dim key mt-4">
                      {style === 'path' ? `${host}/BUCKET/KEY` : `BUCKET.${domain}:${wire.port}/KEY`}
                    </div>
                    <div className="small faint">
                      {style === 'path' ? 'works with any address' : `the name BUCKET.${domain} must lead here`}
                    </div>
                  </td>
                  <td />
                </tr>
                <Fact
                  name="Region"
                  value={region}
                  note="any other name is accepted too, unless the service is strict"
                />
                {session.key ? (
                  <Fact
                    name="Key"
                    value={session.key}
                    note={`${session.name} of ${session.account}; its secret was shown when it was made`}
                  />
                ) : (
                  <Fact
                    name="Key"
                    value="one for each application"
                    note="make it under Access: its secret is shown once"
                  />
                )}
              </tbody>
            </table>
          </Section>
          <Section
            title="With Spindle's own client"
            end={<CopyButton low text={command.replace(/\\\n\s+/g, '')} what="Commands" />}
          >
            <pre className="block mt-8">{command}</pre>
            <p className="small faint mt-6">It asks for the secret; it is never written in a command.</p>
          </Section>
        </div>
        <Check address={wire.url} region={region} style={style} ownKey={session.key ?? ''} />
      </div>
    </>
  );
}

const Fact = ({ name, value, note }: { name: string; value: string; note: string }) => (
  <tr>
    <td className="faint w-84">{name}</td>
    <td className="p-8">
      <div className="key wrap-any text-[15px]">{value}</div>
      <div className="small faint">{note}</div>
    </td>
    <td className="num">
      <CopyButton text={value} what={name} />
    </td>
  </tr>
);

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
function Check(p: CheckProps) {
  const buckets = useBuckets();
  const first = buckets.data?.buckets[0]?.name ?? '';
  const [form, setForm] = useState({
    address: p.address,
    style: p.style,
    region: p.region,
    key: p.ownKey,
    secret: '',
    bucket: '',
  });
  useEffect(() => setForm((f) => ({ ...f, style: p.style })), [p.style]);
  useEffect(() => setForm((f) => (f.bucket ? f : { ...f, bucket: first })), [first]);
  const set = (name: keyof typeof form) => (e: { target: { value: string } }) =>
    setForm({ ...form, [name]: e.target.value });
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
          <Field label="Address" mono value={form.address} onChange={set('address')} />
        </div>
        <div>
          <label className="label" htmlFor="style">
            Style
          </label>
          <Select
            className="field sel w-full"
            id="style"
            value={form.style}
            onChange={(style) => setForm({ ...form, style: style as Style })}
            options={same(['path', 'host'])}
          />
        </div>
        <Field label="Region" mono value={form.region} onChange={set('region')} />
        <div className="col-span-2">
          <Field label="Key" mono value={form.key} onChange={set('key')} />
        </div>
        <div className="col-span-2">
          <Field
            label="Secret"
            type="password"
            value={form.secret}
            onChange={set('secret')}
            placeholder={form.key && form.key === p.ownKey ? 'known for your own key' : ''}
            autoComplete="off"
          />
        </div>
        <Field label="Bucket to try" mono value={form.bucket} onChange={set('bucket')} />
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
            <button type="button" className="btn low" onClick={() => setForm({ ...form, address: wrong.address! })}>
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
