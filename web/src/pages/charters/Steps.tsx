import type { ReactNode } from 'react';

import type { Step } from '../../data/charters';
import { Shape, type StateKind } from '../../parts/Marks';
import { size, things, visible } from '../../parts/format';

const shapes: Record<Step['do'], StateKind> = { make: 'good', change: 'rename', remove: 'gone' };
const bytes = new Set(['quota', 'sizeFrom', 'sizeTo', 'bandwidth']);

interface Props {
  steps: Step[];
  done?: number; // so many of them are
  drifted?: boolean; // they say what is otherwise, and nothing is done
  more?: (s: Step) => ReactNode;
  each?: (s: Step, field: string) => ReactNode; // of a field that differs
}

/** What is made, changed and removed, thing by thing and field by field. */
export const Steps = ({ steps, done, drifted, more, each }: Props) => (
  <ol className="grid gap-10">
    {steps.map((s, i) => (
      <li key={`${s.kind} ${s.name}`} className={done !== undefined && i < done ? 'faint' : ''}>
        <div className="row">
          <Shape kind={done !== undefined && i < done ? 'good' : shapes[s.do]} size={11} />
          <span className="dim">
            {drifted ? '' : s.do} {s.kind}
          </span>
          <b className="strong wrap-any">{visible(s.name)}</b>
          {more?.(s)}
        </div>
        {s.changes?.length ? (
          <dl className="facts pl-22">
            {s.changes.map((c) => (
              <div className="contents" key={c.field}>
                <dt>{visible(c.field)}</dt>
                <dd className="key wrap-any">
                  {s.do === 'change' ? <del className="faint mr-8">{written(c.field, c.from)}</del> : null}
                  {written(c.field, c.to)}
                  {each?.(s, c.field)}
                </dd>
              </div>
            ))}
          </dl>
        ) : null}
        {s.holds ? (
          <p className="small bad pl-22">
            It holds {things(s.holds.objects, 'object')}, {size(s.holds.bytes)}, and{' '}
            {things(s.holds.previous ?? 0, 'previous version')}.
          </p>
        ) : null}
        {s.cannot ? <p className="small bad pl-22">It cannot be done: {visible(s.cannot)}.</p> : null}
      </li>
    ))}
  </ol>
);

/** A value as people read it. */
export function written(field: string, v: unknown): string {
  if (v === null || v === undefined || v === '') return 'nothing';
  if (typeof v === 'number' && bytes.has(field)) return size(v);
  if (typeof v === 'boolean') return v ? 'yes' : 'no';
  if (Array.isArray(v)) return v.map((x) => written('', x)).join(', ');
  if (typeof v === 'object')
    return Object.entries(v)
      .map(([name, x]) => `${name} ${written(name, x)}`)
      .join(', ');
  return visible(String(v));
}
