import { Checkbox } from 'radix-ui';
import { type ReactNode, useEffect, useState } from 'react';
import { createPortal } from 'react-dom';

import { CopyButton } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { icons } from '../../parts/Marks';

/** What one can do on a section stands at the head of the page. */
export function Actions({ children }: { children: ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  useEffect(() => setPlace(document.getElementById('access-actions')), []);
  return place ? createPortal(children, place) : null;
}

interface SecretProps {
  title: string;
  facts: [string, string][]; // the last one is the secret
  file: string;
  says: string;
  onClose: () => void;
}

/** A secret that is shown once: it closes when one says that it is kept. */
export function Secret({ title, facts, file, says, onClose }: SecretProps) {
  const [kept, setKept] = useState(false);
  const secret = facts[facts.length - 1]!;
  const text = facts.map(([k, v]) => `${k}: ${v}`).join('\n') + '\n';
  const download = () => {
    const a = document.createElement('a');
    a.href = URL.createObjectURL(new Blob([text], { type: 'text/plain' }));
    a.download = file;
    a.click();
    setTimeout(() => URL.revokeObjectURL(a.href), 1000);
  };
  return (
    <Dialog
      open
      onClose={() => kept && onClose()}
      title={title}
      width={560}
      footer={
        <>
          <label className="row grow cursor-pointer">
            <Checkbox.Root
              className="check"
              checked={kept}
              onCheckedChange={(v) => setKept(v === true)}
              aria-label="I have kept it"
            />
            I have kept it
          </label>
          <button type="button" className="btn main" disabled={!kept} onClick={onClose}>
            Done
          </button>
        </>
      }
    >
      <div className="note warn">{says}</div>
      <dl className="facts my-12 mx-0">
        {facts.map(([k, v]) => (
          <div className="contents" key={k}>
            <dt>{k}</dt>
            <dd className="key wrap-any">{v}</dd>
          </div>
        ))}
      </dl>
      <div className="row">
        <CopyButton text={secret[1]} what={secret[0]} />
        <button type="button" className="btn" onClick={download}>
          {icons.down} Download
        </button>
      </div>
    </Dialog>
  );
}
