const units = ['KiB', 'MiB', 'GiB', 'TiB', 'PiB'];

/** Bytes in IEC units, as number and unit. */
export function sizeParts(n: number): [string, string] {
  const negative = n < 0 ? '−' : '';
  let v = Math.abs(n);
  if (v < 1024) return [negative + v, 'B'];
  let i = -1;
  do {
    v /= 1024;
    i++;
  } while (v >= 1023.95 && i < units.length - 1);
  return [negative + v.toFixed(1), units[i]!];
}

export const size = (n: number) => sizeParts(n).join(' ');

const grouped = new Intl.NumberFormat('en');
export const count = (n: number) => grouped.format(n);
export const things = (n: number, one: string, many = one + 's') => `${count(n)} ${n === 1 ? one : many}`;

const day = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short', year: 'numeric' });
const dayHere = new Intl.DateTimeFormat('en-GB', { day: 'numeric', month: 'short' });
const clock = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit' });
const clockSeconds = new Intl.DateTimeFormat('en-GB', { hour: '2-digit', minute: '2-digit', second: '2-digit' });
const long = new Intl.DateTimeFormat('en-GB', {
  weekday: 'long',
  day: 'numeric',
  month: 'long',
  year: 'numeric',
  hour: '2-digit',
  minute: '2-digit',
});

export const time = (d: Date) => clockSeconds.format(d);
export const longDate = (d: Date) => long.format(d);

/** A moment, the shorter the nearer: a time today, a day this year, else a date. */
export function moment(d: Date, now = new Date()): string {
  if (d.toDateString() === now.toDateString()) return clock.format(d);
  if (Math.abs(now.getTime() - d.getTime()) < (d > now ? 60 : 300) * 864e5)
    return `${dayHere.format(d)}, ${clock.format(d)}`;
  return day.format(d);
}

export const date = (d: Date) => day.format(d);

/** The exact moment, in local time and UTC. */
export const exact = (d: Date) =>
  `${day.format(d)}, ${clockSeconds.format(d)} local, ${d.toISOString().replace('T', ' ').slice(0, 19)} UTC`;

export function ago(d: Date, now = new Date()): string {
  const s = Math.max(0, (now.getTime() - d.getTime()) / 1000);
  if (s < 90) return `${Math.round(s)} s`;
  if (s < 5400) return `${Math.round(s / 60)} min`;
  if (s < 36 * 3600) return `${Math.round(s / 3600)} h`;
  return `${Math.round(s / 86400)} d`;
}

/** Text with control and formatting characters made visible. */
export const visible = (s: string) =>
  s.replace(/[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]/gu, (c) => '\\u{' + c.codePointAt(0)!.toString(16) + '}');

/** Keeps both ends of a long name. */
export const middle = (s: string, most: number) =>
  s.length <= most ? s : s.slice(0, Math.ceil(most / 2) - 1) + '…' + s.slice(-Math.floor(most / 2));

/** The page of a bucket, a prefix of it or an object. */
export function bucketPage(bucket: string, prefix = '', asOf = ''): string {
  const q = [prefix ? `prefix=${encodeURIComponent(prefix)}` : '', asOf ? `asof=${encodeURIComponent(asOf)}` : '']
    .filter(Boolean)
    .join('&');
  return `/buckets/${encodeURIComponent(bucket)}` + (q ? `?${q}` : '');
}
export const objectPage = (bucket: string, key: string, version = '') =>
  `/buckets/${encodeURIComponent(bucket)}/object?key=${encodeURIComponent(key)}` +
  (version ? `&version=${encodeURIComponent(version)}` : '');

/** Reads a size such as "400 MiB"; null when it is none. */
export function parseSize(s: string): number | null {
  const m = /^\s*([\d.]+)\s*(B|[KMGTP]iB|[KMGTP]B|)\s*$/i.exec(s);
  if (!m) return null;
  const unit = m[2]!.toUpperCase();
  const power = 'BKMGTP'.indexOf(unit[0] ?? 'B');
  const n = Number(m[1]) * (unit.includes('I') || unit === '' || unit === 'B' ? 1024 : 1000) ** Math.max(0, power);
  return Number.isFinite(n) && n >= 1 ? Math.floor(n) : null;
}

/** A number of seconds, in the unit that says it best. */
export const span = (s: number) =>
  s >= 7200 ? `${Math.round(s / 3600)} h` : s >= 120 ? `${Math.round(s / 60)} min` : `${s} s`;

/**
 * Reads a number that somebody typed, with a comma or a point; none when nothing was. What is no number is -1, which no
 * call takes: so it is refused at its field, and never taken for nothing.
 */
export function figure(text: string, none = 0): number {
  const typed = text.trim().replace(',', '.');
  if (typed === '') return none;
  const n = Number(typed);
  return Number.isFinite(n) ? n : -1;
}
