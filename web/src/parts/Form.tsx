import { type FormEvent, type ReactNode, useCallback, useId, useState } from 'react';

import { Problem } from '../api/client';
import { useChange } from '../data/queries';
import { Complaint } from './Bits';
import { Dialog } from './Dialog';
import { Select } from './Select';
import { Shows } from './shown';
import { useToast } from './Toasts';

/** A labelled choice. */
export function Choice({
  label,
  value,
  onChange,
  options,
  hint,
  width,
}: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  options: [string, string][];
  hint?: string;
  width?: number;
}) {
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

/** What is beneath, and after it the error, unless something beneath shows it already. */
export function WithError({ error, children }: { error: unknown; children: ReactNode }) {
  const [shown, setShown] = useState<unknown[]>([]);
  const shows = useCallback((e: unknown) => {
    setShown((was) => [...was, e]);
    return () => setShown((was) => was.toSpliced(was.indexOf(e), 1));
  }, []);
  return (
    <>
      <Shows value={shows}>{children}</Shows>
      {error && !shown.includes(error) ? <Complaint error={error} /> : null}
    </>
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
        <WithError error={error}>{children}</WithError>
      </form>
    </Dialog>
  );
}

interface ConfirmProps {
  title: string;
  children: ReactNode;
  act?: string;
  done: string; // what is said when it is done
  run: () => Promise<unknown>;
  onDone?: () => void; // instead of closing
  onClose: () => void;
}

/** Says what a removal means, and does it when that is wanted. */
export function Confirm({ title, children, act = 'Remove it', done, run, onDone, onClose }: ConfirmProps) {
  const toast = useToast();
  const change = useChange(run, true);
  const after = () => {
    toast(done);
    (onDone ?? onClose)();
  };
  return (
    <Ask
      title={title}
      act={act}
      harm
      busy={change.isPending}
      error={change.error}
      onClose={onClose}
      onAct={() => change.mutate(undefined, { onSuccess: after })}
    >
      {children}
    </Ask>
  );
}

/** The problem, when it is about that field. */
export const about = (error: unknown, field: string) => ((error as Problem | null)?.field === field ? error : null);
