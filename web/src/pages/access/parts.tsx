import { Checkbox } from 'radix-ui';
import { type FormEvent, type ReactNode, useEffect, useId, useState } from 'react';
import { createPortal } from 'react-dom';

import type { Problem } from '../../api/client';
import { Complaint, CopyButton } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { icons } from '../../parts/Marks';
import { Select } from '../../parts/Select';

/** What one can do on a section stands at the head of the page. */
export function Actions({ children }: { children: ReactNode }) {
  const [place, setPlace] = useState<HTMLElement | null>(null);
  useEffect(() => setPlace(document.getElementById('access-actions')), []);
  return place ? createPortal(children, place) : null;
}

/** A labelled choice. */
export function Choice({ label, value, onChange, options, hint, width }: { label: string; value: string; onChange: (v: string) => void; options: [string, string][]; hint?: string; width?: number }) {
  const id = useId();
  return (
    <div style={{ width }}>
      <label className="label" htmlFor={id}>
        {label}
      </label>
      <Select className="field sel w-full" id={id} value={value} onChange={onChange} options={options} />
      {hint ? <p className="small faint mt-4">{hint}</p> : null}
    </div>
  );
}

interface AskProps {
  title: string;
  children: ReactNode;
  act: string;
  busy: boolean;
  ready?: boolean;
  harm?: boolean;
  error?: unknown;
  width?: number;
  onAct: () => void;
  onClose: () => void;
}

/** A dialog with a form: what it says, what it does, and what went wrong. */
export function Ask({ title, children, act, busy, ready = true, harm, error, width = 520, onAct, onClose }: AskProps) {
  const id = useId();
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (ready && !busy) onAct();
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title={title}
      width={width}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose} autoFocus={harm}>
            {harm ? 'Keep' : 'Cancel'}
          </button>
          <button type="submit" form={id} className={harm ? 'btn harm solid' : 'btn main'} disabled={!ready || busy}>
            {act}
          </button>
        </>
      }
    >
      <form className="grid gap-12" id={id} onSubmit={submit}>
        {children}
        {error ? <Complaint error={error} /> : null}
      </form>
    </Dialog>
  );
}

/** The problem, when it is about that field. */
export const about = (error: unknown, field: string) => ((error as Problem | null)?.field === field ? error : null);
/** The problem, when it is about none of those fields. */
export const aboutNone = (error: unknown, ...fields: string[]) => (error && !fields.includes((error as Problem).field ?? '') ? error : null);

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
            <Checkbox.Root className="check" checked={kept} onCheckedChange={(v) => setKept(v === true)} aria-label="I have kept it" />I have kept it
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

/** The button beneath a list that has more. */
export const More = ({ list }: { list: { hasNextPage: boolean; isFetchingNextPage: boolean; fetchNextPage: () => Promise<unknown> } }) =>
  list.hasNextPage ? (
    <button type="button" className="btn mt-8" disabled={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
      Read more
    </button>
  ) : null;
