import type { ReactNode } from 'react';

/** Shapes of states, drawn in a 12 px box. One shape, one meaning; the dye repeats what shape and word say. */
const shapes = {
  good: <circle cx="6" cy="6" r="4.2" fill="currentColor" />,
  run: (
    <>
      <path d="M6 1.6a4.4 4.4 0 1 1-4.4 4.4" fill="none" stroke="currentColor" strokeWidth="1.8" />
      <circle cx="6" cy="6" r="1.7" fill="currentColor" />
    </>
  ),
  wait: <circle cx="6" cy="6" r="3.8" fill="none" stroke="currentColor" strokeWidth="1.8" />,
  warn: <path d="M6 1 11.2 10.4H.8Z" fill="currentColor" />,
  wrong: <path d="M6 .4 11.6 6 6 11.6.4 6Z" fill="currentColor" />,
  off: <path d="M3.5 2v8M8.5 2v8" stroke="currentColor" strokeWidth="2.2" />,
  past: (
    <>
      <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.5" />
      <path d="M6 2a4 4 0 0 0 0 8Z" fill="currentColor" />
    </>
  ),
  rename: <rect x="2" y="2" width="8" height="8" fill="none" stroke="currentColor" strokeWidth="1.6" />,
  gone: <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" strokeWidth="2.2" />,
  unfinished: (
    <circle cx="6" cy="6" r="4" fill="none" stroke="currentColor" strokeWidth="1.8" strokeDasharray="2.1 2.1" />
  ),
  none: <path d="M2 6h8" stroke="currentColor" strokeWidth="1.8" />,
};

export type StateKind = keyof typeof shapes;

const dyes: Record<StateKind, string> = {
  good: 'good',
  run: 'run',
  wait: 'wait',
  warn: 'warn',
  wrong: 'wrong',
  off: 'off',
  past: 'past',
  rename: '',
  gone: '',
  unfinished: 'wait',
  none: 'off',
};

export const dyeOf = (k: StateKind) => dyes[k];

export const Shape = ({ kind, size = 12 }: { kind: StateKind; size?: number }) => (
  <svg width={size} height={size} viewBox="0 0 12 12" aria-hidden="true">
    {shapes[kind]}
  </svg>
);

/** The shape of a bucket's versioning. */
export const versioningShape = (v: string): StateKind => (v === 'on' ? 'past' : v === 'paused' ? 'off' : 'none');

/** A state: shape, word and dye, always all three. */
export const State = ({ kind, children }: { kind: StateKind; children: ReactNode }) => (
  <span className={`state ${dyes[kind]}`}>
    <Shape kind={kind} />
    <span>{children}</span>
  </span>
);

const icon = (d: ReactNode) => (
  <svg
    className="flex-none"
    width="14"
    height="14"
    viewBox="0 0 14 14"
    fill="none"
    stroke="currentColor"
    strokeWidth="1.3"
    aria-hidden="true"
  >
    {d}
  </svg>
);

export const icons = {
  copy: icon(
    <>
      <rect x="4.5" y="4.5" width="7" height="7.5" rx="1" />
      <path d="M9.5 4.5v-2h-7v7.5h2" />
    </>,
  ),
  fold: icon(<path d="M1.5 11.5v-9h4l1.2 1.7h5.8v7.3z" />),
  sheet: icon(<path d="M3 1.5h5.5L11 4v8.5H3zM8.3 1.7v2.6H11" />),
  up: icon(<path d="M7 9.5v-8M3.8 4.5 7 1.4l3.2 3.1M2 12.5h10" />),
  down: icon(<path d="M7 1.5v8M3.8 6.4 7 9.5l3.2-3.1M2 12.5h10" />),
  find: icon(
    <>
      <circle cx="6" cy="6" r="3.8" />
      <path d="m9 9 3.4 3.4" />
    </>,
  ),
  open: icon(<path d="m5 2.5 4.5 4.5L5 11.5" />),
  tick: icon(<path d="m2.5 7.5 3 3 6-7" />),
  shut: icon(<path d="M2.5 5 7 9.5 11.5 5" />),
};

/** The mark: a whorl on its shaft, thread wound below it. With tail, the thread becomes the line of the rail. */
export const Logo = ({ width = 34, tail = true }: { width?: number; tail?: boolean }) => (
  <svg width={width} height={(width * 60) / 34} viewBox="0 0 34 60" fill="none" aria-hidden="true">
    <path d="M21 2.5v43" stroke="var(--color-ink)" strokeWidth="2" strokeLinecap="round" />
    <path
      d="M17.5 14.5h7c3.2 4.2 4.4 8.4 3.2 12.4-.8 3-2.6 5.8-4.7 8.1h-4c-2.1-2.3-3.9-5.1-4.7-8.1-1.2-4 0-8.2 3.2-12.4Z"
      fill="var(--color-woad)"
    />
    <path
      d="M15.6 20.4l11.4-3.2M14.6 25l13.6-3.9M15.1 29.3l12.6-3.6M17.1 33l8.8-2.5"
      stroke="var(--color-cloth)"
      strokeWidth="1.3"
    />
    <path d="M10.5 11.5c3.4-2.9 17.6-2.9 21 0-3.4 2.9-17.6 2.9-21 0Z" fill="var(--color-ink)" />
    {tail ? (
      <path d="M14.3 23.8C9 24 7.75 28 7.75 33V60" stroke="var(--color-ink-3)" strokeWidth="1.5" />
    ) : (
      <path
        d="M14.4 23.6C8 23.6 5 28 5 33.5c0 5 3 8.5 7 8.5"
        stroke="var(--color-woad)"
        strokeWidth="2"
        strokeLinecap="round"
      />
    )}
  </svg>
);
