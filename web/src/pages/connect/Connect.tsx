import { ToggleGroup } from 'radix-ui';
import { useState } from 'react';

import { useService } from '../../data/queries';
import { useSession } from '../../data/session';
import { CopyButton, Section, Trouble } from '../../parts/Bits';
import { ConnectCheck, type Style } from './ConnectCheck';

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
        <ConnectCheck address={wire.url} region={region} style={style} ownKey={session.key ?? ''} />
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
