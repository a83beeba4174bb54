import { type InputHTMLAttributes, type ReactNode, useId } from 'react';

import { Problem } from '../api/client';
import { Hint } from './Hint';
import { Shape, icons } from './Marks';
import { useToast } from './Toasts';
import { actIn } from '../data/session';
import { count, exact, moment, sizeParts } from './format';
import { useShows } from './shown';

/** Bytes: number and fainter unit, exact on hover. */
export function Size({ bytes, sign }: { bytes: number; sign?: boolean }) {
  const [n, unit] = sizeParts(bytes);
  return (
    <Hint says={`${count(bytes)} bytes`}>
      <span className="nowrap">
        {sign && bytes > 0 ? '+' : ''}
        {n} <span className="faint">{unit}</span>
      </span>
    </Hint>
  );
}

/** A moment, exact on hover. */
export const When = ({ at }: { at: string | Date }) => {
  const d = new Date(at);
  return (
    <Hint says={exact(d)}>
      <time dateTime={d.toISOString()} className="nowrap">
        {moment(d)}
      </time>
    </Hint>
  );
};

/** A complaint beside what it is about: what is wrong, and what to do. */
export const Complaint = ({ error }: { error: unknown }) => {
  useShows(error);
  const p = error as Problem;
  return (
    <p className="complaint" role="alert">
      <Shape kind="wrong" size={11} />
      <span className="wrap-any">
        {sentence(p.message)} {p.remedy ? sentence(p.remedy) : ''}
        {p.request ? ` Request ${p.request}.` : ''}
      </span>
    </p>
  );
};

export const sentence = (s: string) => (s ? s[0]!.toUpperCase() + s.slice(1) + (/[.!?]$/.test(s) ? '' : '.') : s);

/** A trouble that keeps a whole page or section from being shown, with the way out where there is one. */
export const Trouble = ({ error }: { error: unknown }) => {
  const p = error as Problem;
  return (
    <div className="note wrong" role="alert">
      <b className="strong">{sentence(p.message)}</b> {p.remedy ? sentence(p.remedy) : ''}
      {p.request ? ` Request ${p.request}.` : ''}
      {p.elsewhere ? (
        <button
          type="button"
          className="btn low ml-8"
          onClick={() => actIn(p.elsewhere!, location.pathname.replace(/^\/in\/[^/]+/, '') + location.search)}
        >
          Act in {p.elsewhere}
        </button>
      ) : null}
    </div>
  );
};

export interface FieldProps extends InputHTMLAttributes<HTMLInputElement> {
  label: string;
  hint?: ReactNode;
  error?: unknown;
  mono?: boolean;
}

/** A labelled field with its hint or complaint beneath. */
export function Field({ label, hint, error, mono, className, ...input }: FieldProps) {
  const id = useId();
  return (
    <div className={className}>
      <label className="label" htmlFor={id}>
        {label}
      </label>
      <span className={`field ${mono ? 'mono' : ''} ${error ? 'bad' : ''}`}>
        <input id={id} aria-invalid={error ? true : undefined} autoComplete="off" spellCheck={false} {...input} />
      </span>
      {error ? <Complaint error={error} /> : hint ? <p className="small faint mt-4">{hint}</p> : null}
    </div>
  );
}

/** A headed section: title, then a rule. */
export const Section = ({
  title,
  aside,
  end,
  children,
}: {
  title: string;
  aside?: ReactNode;
  end?: ReactNode;
  children: ReactNode;
}) => (
  <section className="sect">
    <header>
      <h2>{title}</h2>
      {aside ? <span className="small faint">{aside}</span> : null}
      {end ? <span className="end small">{end}</span> : null}
    </header>
    {children}
  </section>
);

/** Copies a text and says so. */
export function useCopy() {
  const toast = useToast();
  return async (text: string, what: string) => {
    try {
      await navigator.clipboard.writeText(text);
      toast(`${what} copied`);
    } catch {
      toast(`The browser does not allow copying here. Select and copy it: ${text}`);
    }
  };
}

export function CopyButton({ text, what, low }: { text: string; what: string; low?: boolean }) {
  const copy = useCopy();
  return (
    <button
      type="button"
      className={`btn ${low ? 'low' : ''}`}
      onClick={() => void copy(text, what)}
      aria-label={`Copy ${what.toLowerCase()}`}
    >
      {icons.copy} Copy
    </button>
  );
}

export function CopyMark({ text, what }: { text: string; what: string }) {
  const copy = useCopy();
  return (
    <button
      type="button"
      className="copy"
      onClick={() => void copy(text, what)}
      aria-label={`Copy ${what}`}
      title={`Copy ${what}`}
    >
      {icons.copy}
    </button>
  );
}

/** Progress: a thread drawn to its bead; the words stand beside it. */
export const Ply = ({
  share,
  tone = '',
  label,
}: {
  share: number;
  tone?: '' | 'is-good' | 'is-stop';
  label: string;
}) => (
  <span
    className={`ply ${tone}`}
    role="progressbar"
    aria-label={label}
    aria-valuenow={Math.round(share * 100)}
    aria-valuemin={0}
    aria-valuemax={100}
  >
    <i style={{ width: `${Math.min(100, share * 100)}%` }} />
  </span>
);
