import type { Replication, Target } from '../../data/replication';
import { type Sync, runShape, underWay } from '../../data/sync';
import type { StateKind } from '../../parts/Marks';
import { ruleShape, since } from './states';

/** What a thread stands for: one target of one rule, or a sync job. */
export interface Strand {
  id: string;
  of: string; // what is chosen with it, as rules and jobs are chosen
  name: string;
  job: boolean; // it copies now and then
  from: End;
  to: End;
  address: string; // of the target
  state: string;
  shape: StateKind;
  broken: boolean;
  rate: number; // bytes a second
  says: string; // beside the name
}

interface End {
  id: string;
  name: string;
  about: string;
  state?: string;
}

/** A thread as it is laid out. */
export interface Thread extends Strand {
  a: { x: number; y: number };
  b: { x: number; y: number };
  label: { x: number; y: number; width: number };
}

/** What a thread's label says of a target. */
const waitOf = (t: Target, now = Date.now()) => (t.oldest ? since(t.oldest, now) : t.lag.count ? 'keeps up' : 'idle');

const bucketHere = (name: string): End => ({ id: name, name, about: 'bucket, here' });

/** The targets of rules as strands. */
export const ruleStrands = (rules: Replication[]): Strand[] =>
  rules.flatMap((r) =>
    r.targets.map((t) => ({
      id: `${r.name} ${t.id}`,
      of: r.name,
      name: r.name,
      job: false,
      from: bucketHere(r.bucket),
      to: t.endpoint
        ? {
            id: `@${t.endpoint}`,
            name: t.endpoint,
            about: t.health?.region ? `region ${t.health.region}` : 'endpoint',
            state: t.health?.state,
          }
        : bucketHere(t.bucket),
      address: t.address,
      state: t.state,
      shape: ruleShape[t.state] ?? 'none',
      broken: t.state === 'failing' || t.state === 'stopped',
      rate: t.rate,
      says: waitOf(t),
    })),
  );

/** The side of a job, as the end of a strand. */
function endOf(side: string): End {
  if (side.startsWith('/')) return { id: side, name: side.split('/').at(-1) ?? side, about: 'folder' };
  const [first = ''] = side.split('/');
  if (first.startsWith('@')) return { id: first, name: first.slice(1), about: 'endpoint' };
  return bucketHere(first);
}

/** How the chosen job is named where rules are chosen too. */
export const jobChoice = (name: string) => `sync ${name}`;

/** Sync jobs as strands. */
export const jobStrands = (jobs: Sync[]): Strand[] =>
  jobs.map((j) => ({
    id: jobChoice(j.name),
    of: jobChoice(j.name),
    name: j.name,
    job: true,
    from: endOf(j.from),
    to: endOf(j.to),
    address: j.to,
    state: j.last?.state ?? 'never run',
    shape: j.last ? runShape[j.last.state] : 'none',
    broken: j.last?.state === 'failed',
    rate: underWay(j.last) ? 1 : 0,
    says: !j.last ? 'never' : underWay(j.last) ? 'now' : `${since(j.last.ended ?? j.last.asked)} ago`,
  }));

/** A post: a bucket held here, or a place that is read or written. */
export interface Post extends End {
  x: number;
  y: number;
  height: number;
}

export const width = 728;
const sourceX = 190;
const targetX = width - 170;
const pitch = 30; // between the threads of a post
const gap = 46;

/** Lays posts and threads out: sources left, targets right, each as high as its threads need. */
export function layOut(strands: Strand[]): { posts: Post[]; threads: Thread[]; height: number } {
  const group = (end: (s: Strand) => End) => {
    const groups = new Map<string, Strand[]>();
    for (const s of strands) groups.set(end(s).id, [...(groups.get(end(s).id) ?? []), s]);
    return [...groups];
  };
  const posts: Post[] = [];
  const place = (groups: [string, Strand[]][], end: (s: Strand) => End, x: number) => {
    const ends = new Map<string, { x: number; y: number }>();
    let y = 34;
    for (const [, list] of groups) {
      const height = Math.max(44, list.length * pitch + 14);
      const known = list.map(end).find((e) => e.state) ?? end(list[0]!);
      posts.push({ ...known, state: x === targetX ? known.state : undefined, x, y, height });
      list.forEach((s, i) => ends.set(s.id, { x, y: y + height / 2 + (i - (list.length - 1) / 2) * pitch }));
      y += height + gap;
    }
    return { ends, height: y };
  };
  const from = place(
    group((s) => s.from).sort(([a], [b]) => a.localeCompare(b)),
    (s) => s.from,
    sourceX,
  );
  // Targets stand where the threads that reach them come from, so that few cross.
  const height = (list: Strand[]) => list.reduce((sum, s) => sum + from.ends.get(s.id)!.y, 0) / list.length;
  const to = place(
    group((s) => s.to).sort(([, a], [, b]) => height(a) - height(b)),
    (s) => s.to,
    targetX,
  );
  const labels: Thread['label'][] = [];
  const threads = strands.map((s) => {
    const [a, b] = [from.ends.get(s.id)!, to.ends.get(s.id)!];
    const label = labelOn(a, b, Math.max(96, s.name.length * 6.6 + s.says.length * 6 + 30), labels);
    labels.push(label);
    return { ...s, a, b, label };
  });
  return { posts, threads, height: Math.max(from.height, to.height, 160) };
}

/** The thickness of a thread by its bytes a second: idle, some, much. */
export const thickness = (rate: number) => (rate > 400 * 1024 ? 7 : rate > 64 * 1024 ? 4.5 : rate > 0 ? 3 : 1.5);

/** A place on a thread for its label, where no other is yet. */
function labelOn(a: { x: number; y: number }, b: { x: number; y: number }, w: number, others: Thread['label'][]) {
  const at = (t: number) => {
    const u = 1 - t;
    const bend = 3 * u * t;
    return {
      x: u ** 3 * a.x + bend * ((a.x + b.x) / 2) + t ** 3 * b.x,
      y: (u ** 3 + bend * u) * a.y + (bend * t + t ** 3) * b.y,
      width: w,
    };
  };
  const free = (l: Thread['label']) =>
    others.every((o) => Math.abs(o.y - l.y) > 23 || Math.abs(o.x - l.x) > (o.width + l.width) / 2 + 4);
  return [0.5, 0.38, 0.62, 0.28, 0.72].map(at).find(free) ?? at(0.5);
}
