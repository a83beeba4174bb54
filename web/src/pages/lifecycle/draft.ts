import type { Action, Rule, Tier } from '../../data/lifecycle';

/** A line of the form: an action that a rule may have, on or off. */
export interface Line {
  id: string;
  of: Action['of'];
  do: Action['do'];
  to?: string;
  on: boolean;
  when: string; // days, or a date
  keep: string;
  dearer: boolean;
}

const defaults: Record<string, string> = { current: '180', previous: '90', markers: '1', uploads: '7' };

/** The lines of a rule: all that it does, and all that it might. */
export function linesOf(rule: Rule, tiers: Tier[]): Line[] {
  const line = (of: Action['of'], act: Action['do'], to?: string): Line => {
    const a = rule.actions.find((x) => x.of === of && x.do === act && (x.to ?? '') === (to ?? ''));
    return {
      id: `${of} ${act} ${to ?? ''}`,
      of,
      do: act,
      to,
      on: !!a,
      when: a ? (a.date ?? String(a.days ?? '')) : (defaults[of] ?? ''),
      keep: a?.keep ? String(a.keep) : '',
      dearer: a?.dearer ?? false,
    };
  };
  const cold = tiers.filter((t) => t.name !== 'main').map((t) => t.name);
  const back = rule.actions.some((a) => a.to === 'main') ? ['main', ...cold] : cold;
  return [
    ...back.map((t) => line('current', 'move', t)),
    line('current', 'remove'),
    ...back.map((t) => line('previous', 'move', t)),
    line('previous', 'remove'),
    line('markers', 'remove'),
    line('uploads', 'remove'),
  ];
}

/** The actions of the lines that are on, in their order. */
export const actionsOf = (lines: Line[]): Action[] =>
  lines
    .filter((l) => l.on)
    .map((l) => ({
      of: l.of,
      do: l.do,
      ...(l.to ? { to: l.to } : {}),
      ...(l.when.includes('-') && l.when.length > 3 ? { date: l.when } : { days: Number(l.when || NaN) }),
      ...(l.of === 'previous' && Number(l.keep) ? { keep: Number(l.keep) } : {}),
      ...(l.dearer ? { dearer: true } : {}),
    }))
    .map((a) => ('days' in a && Number.isNaN(a.days) ? { ...a, days: -1 } : a));

/** Lists of patterns and tags as people type them. */
export const listOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);
export const tagsOf = (text: string) =>
  Object.fromEntries(
    text
      .split(',')
      .map((t) => t.trim())
      .filter(Boolean)
      .map((t) => {
        const [name = '', ...value] = t.split('=');
        return [name.trim(), value.join('=').trim()];
      }),
  );
export const tagsText = (tags?: Record<string, string>) =>
  Object.entries(tags ?? {})
    .map(([n, v]) => `${n} = ${v}`)
    .join(', ');
