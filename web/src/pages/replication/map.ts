import type { Replication, Target } from '../../data/replication';
import { since } from './states';

/** A thread: one target of one rule. */
export interface Thread {
  rule: Replication;
  target: Target;
  from: { x: number; y: number };
  to: { x: number; y: number };
  label: { x: number; y: number; width: number };
}

/** What a thread's label says beside the rule's name. */
export const waitOf = (t: Target, now = Date.now()) =>
  t.oldest ? since(t.oldest, now) : t.lag.count ? 'keeps up' : 'idle';

/** A post: a bucket held here, or a place that is written to. */
export interface Post {
  id: string;
  name: string;
  about: string;
  state?: string;
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
export function layOut(rules: Replication[]): { posts: Post[]; threads: Thread[]; height: number } {
  const bySource = new Map<string, { rule: Replication; target: Target }[]>();
  const byTarget = new Map<string, { rule: Replication; target: Target }[]>();
  for (const rule of rules)
    for (const target of rule.targets) {
      const to = target.endpoint ? `@${target.endpoint}` : target.bucket;
      for (const [map, id] of [
        [bySource, rule.bucket],
        [byTarget, to],
      ] as const)
        map.set(id, [...(map.get(id) ?? []), { rule, target }]);
    }
  const posts: Post[] = [];
  const place = (groups: typeof bySource, x: number) => {
    const ends = new Map<string, { x: number; y: number }>();
    let y = 34;
    for (const [id, list] of groups) {
      const height = Math.max(44, list.length * pitch + 14);
      const first = list[0]!.target;
      posts.push({
        id,
        name: id.replace(/^@/, ''),
        about:
          x === sourceX
            ? 'bucket, here'
            : first.endpoint
              ? first.health?.region
                ? `region ${first.health.region}`
                : 'endpoint'
              : 'bucket, here',
        state: x === targetX ? first.health?.state : undefined,
        x,
        y,
        height,
      });
      list.forEach((t, i) =>
        ends.set(`${t.rule.name} ${t.target.id}`, { x, y: y + height / 2 + (i - (list.length - 1) / 2) * pitch }),
      );
      y += height + gap;
    }
    return { ends, height: y };
  };
  const from = place(new Map([...bySource].sort(([a], [b]) => a.localeCompare(b))), sourceX);
  // Targets stand where the threads that reach them come from, so that few cross.
  const height = (list: { rule: Replication; target: Target }[]) =>
    list.reduce((sum, t) => sum + from.ends.get(`${t.rule.name} ${t.target.id}`)!.y, 0) / list.length;
  const to = place(new Map([...byTarget].sort(([, a], [, b]) => height(a) - height(b))), targetX);
  const labels: Thread['label'][] = [];
  const threads = rules.flatMap((rule) =>
    rule.targets.map((target) => {
      const [a, b] = [from.ends.get(`${rule.name} ${target.id}`)!, to.ends.get(`${rule.name} ${target.id}`)!];
      const label = labelOn(a, b, Math.max(96, rule.name.length * 6.6 + waitOf(target).length * 6 + 30), labels);
      labels.push(label);
      return { rule, target, from: a, to: b, label };
    }),
  );
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
