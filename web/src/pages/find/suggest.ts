/** A word that may come next, and the expression with it. */
export interface Suggestion {
  word: string;
  text: string;
}

const comparisons: Record<string, string[]> = {
  size: ['over', 'under', 'between'],
  age: ['over', 'under', 'between'],
  changed: ['before', 'after', 'on'],
  sealed: [],
  current: [],
  replication: ['is'],
};
const words = ['is', 'begins with', 'contains', 'like'];

const quoted = (s: string) => (/^[^\s(),"]+$/.test(s) ? s : `"${s.replace(/[\\"]/g, '\\$&')}"`);

/** What may come next in an expression: fields, comparisons, values, or how it goes on. */
export function suggest(text: string, fields: { name: string; values: string[] }[]): Suggestion[] {
  const test = text.split(/\b(?:and|or|not)\s+|\(/i).at(-1) ?? '';
  const before = text.slice(0, text.length - test.length);
  const list = (options: string[], typed: string, lead: string): Suggestion[] =>
    options
      .filter((o) => o.toLowerCase().startsWith(typed.toLowerCase()) && o !== typed)
      .slice(0, 24)
      .map((word) => ({ word, text: `${before}${lead}${word} ` }));
  const field = [...fields].sort((a, b) => b.name.length - a.name.length).find((f) => test.startsWith(`${f.name} `));
  if (!field) return list([...fields.map((f) => f.name), 'has', 'lacks'], test.trimStart(), '');
  const rest = test.slice(field.name.length + 1);
  const ops = comparisons[field.name] ?? words;
  const op = ops.find((o) => rest.startsWith(`${o} `));
  if (!op) return ops.length ? list(ops, rest, `${field.name} `) : list(['and', 'or'], rest, `${field.name} `);
  const value = rest.slice(op.length + 1);
  if (/\S\s$/.test(value)) return list(['and', 'or'], '', test);
  return list(field.values.map(quoted), value, `${field.name} ${op} `);
}
