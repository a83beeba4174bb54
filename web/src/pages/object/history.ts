import type { Schemas } from '../../api/client';

export type Chapter = Schemas['Chapter'];
export type Version = Schemas['HistoryVersion'];

/** A version with what the strand needs to know of it. */
export interface Bead {
  lane: number;
  v: Version;
  at: number;
  until: number; // when the next one came; now for the latest
  title: string; // "version 3", or its id when older ones are not read
  went?: Schemas['OriginInfo']; // a delete marker that a rename left
}

export interface Lane {
  bucket: string;
  key: string;
  asked: boolean;
  first: number;
  beads: Bead[];
  note: string;
}

/** A place in the drawing, to a tenth of a pixel. */
export const r1 = (n: number) => Number(n.toFixed(1));

/** Lays out the histories of all names of an object, the oldest name first. */
export function lanesOf(chapters: Chapter[], now: number): Lane[] {
  const lanes = chapters
    .map((c, i) => {
      const versions = [...(c.versions ?? [])].reverse();
      let ordinal = 0;
      const beads = versions.map((v, n): Bead => {
        const next = versions[n + 1];
        if (!v.marker) ordinal++;
        return {
          lane: 0,
          v,
          at: Date.parse(v.created),
          until: next ? Date.parse(next.created) : now,
          title: c.next ? v.version : `version ${ordinal}`,
          went: v.marker ? c.went?.find((w) => w.at === v.created) : undefined,
        };
      });
      return { bucket: c.bucket, key: c.key, asked: i === 0, first: beads[0]?.at ?? now, beads, note: '' };
    })
    .filter((l) => l.beads.length > 0 || l.asked);
  const few = [...lanes.filter((l) => l.asked), ...lanes.filter((l) => !l.asked)].slice(0, 4);
  few.sort((a, b) => a.first - b.first);
  few.forEach((l, lane) => l.beads.forEach((b) => (b.lane = lane)));
  return few;
}

/** Fields that differ between two sets, and all others, in the order of names. */
export function compareFields(a: Record<string, string> = {}, b: Record<string, string> = {}) {
  return [...new Set([...Object.keys(a), ...Object.keys(b)])]
    .sort()
    .map((name) => ({ name, a: a[name], b: b[name], same: a[name] === b[name] }));
}

const steps = [6e4, 3e5, 9e5, 36e5, 108e5, 216e5, 432e5, 864e5, 1728e5, 6048e5];

/** Moments for an axis: months where years pass, days, hours and minutes where less does. */
export function ticks(from: number, to: number, most: number): { at: number; text: string; strong: boolean }[] {
  const span = to - from;
  const step = steps.find((s) => span / s <= most);
  const out: { at: number; text: string; strong: boolean }[] = [];
  if (step) {
    const zone = new Date(to).getTimezoneOffset() * 6e4;
    for (let t = Math.ceil((from - zone) / step) * step + zone; t < to; t += step) {
      const d = new Date(t);
      const midnight = d.getHours() === 0 && d.getMinutes() === 0;
      out.push({
        at: t,
        strong: midnight && step < 864e5,
        text:
          midnight || step >= 864e5
            ? d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
            : d.toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' }),
      });
    }
    return out;
  }
  const months = [1, 3, 6, 12, 24, 60].find((m) => span / (m * 2630e6) <= most) ?? 120;
  const start = new Date(from);
  for (
    let m = new Date(start.getFullYear(), 0, 1);
    m.getTime() < to;
    m = new Date(m.getFullYear(), m.getMonth() + months, 1)
  ) {
    if (m.getTime() < from) continue;
    const year = m.getMonth() === 0;
    out.push({
      at: m.getTime(),
      strong: year,
      text: year ? String(m.getFullYear()) : m.toLocaleDateString('en-GB', { month: 'short' }),
    });
  }
  return out;
}
