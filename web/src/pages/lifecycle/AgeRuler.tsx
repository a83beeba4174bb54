import { scaleSqrt } from '@visx/scale';
import { type KeyboardEvent, type PointerEvent, useRef } from 'react';

import type { Schemas } from '../../api/client';
import type { Tier } from '../../data/lifecycle';
import { things } from '../../parts/format';
import { TierPatterns, tierFill } from './TierSwatch';

/** A threshold on the ruler. */
export interface Post {
  id: string;
  days: number;
  label: string;
  below?: string;
  previous: boolean;
  removes: boolean;
  bad?: boolean;
  onDays: (days: number) => void;
}

interface Props {
  bars: Schemas['AgeBar'][];
  tiers: Tier[];
  posts: Post[];
  ahead: number;
}

const w = 704;
const up = 170;
const line = 22;
const down = 88;
const bins = 38;
const ticks: [number, string][] = [
  [1, '1 d'],
  [7, '7'],
  [30, '30 d'],
  [90, '90 d'],
  [180, '180 d'],
  [365, '1 year'],
  [547, '18 months'],
  [730, '2 years'],
  [1095, '3 years'],
  [1825, '5 years'],
  [3650, '10 years'],
];

/** Bytes by age: current versions above the line, previous ones beneath, with posts that are dragged. */
export function AgeRuler({ bars, tiers, posts, ahead }: Props) {
  const svg = useRef<SVGSVGElement>(null);
  const oldest = Math.max(400, ...bars.map((b) => b.age), ...posts.map((p) => p.days));
  const x = scaleSqrt({ domain: [0, oldest * 1.04], range: [2, w - 2] });
  const { above, beneath } = stacks(bars, x);
  const height = (list: Stack[]) => Math.max(1, ...list.map((s) => s.reduce((n, b) => n + b.bytes, 0)));
  const tall = height(above);
  const deep = height(beneath);
  const at = (clientX: number) => {
    const box = svg.current!.getBoundingClientRect();
    return Math.max(0, Math.round(x.invert(((clientX - box.left) / box.width) * w)));
  };
  const removed = Math.min(...posts.filter((p) => p.previous && p.removes).map((p) => p.days), Infinity);
  return (
    <svg
      ref={svg}
      viewBox={`0 0 ${w} ${up + line + down}`}
      className="w-full select-none touch-none"
      role="group"
      aria-label="Bytes by age"
    >
      <TierPatterns />
      {posts.map((p) => (
        <rect
          key={p.id}
          x={x(Math.max(0, p.days - ahead))}
          width={Math.max(0, x(p.days) - x(Math.max(0, p.days - ahead)))}
          y={p.previous ? up + line : 40}
          height={p.previous ? 50 : up - 40}
          className="fill-[url(#age-ahead)] opacity-60"
        />
      ))}
      {above.map((stack, i) => (
        <Bar
          key={i}
          stack={stack}
          left={x(edge(x, i))}
          right={x(edge(x, i + 1))}
          scale={(up - 50) / tall}
          tiers={tiers}
        />
      ))}
      {beneath.map((stack, i) => {
        const bytes = stack.reduce((n, b) => n + b.bytes, 0);
        const gone = edge(x, i) >= removed;
        return bytes ? (
          <rect
            key={i}
            x={x(edge(x, i)) + 0.5}
            width={x(edge(x, i + 1)) - x(edge(x, i)) - 1}
            y={up + line}
            height={Math.max(1, (bytes / deep) * 34)}
            className={gone ? 'fill-[url(#age-removed)] stroke-madder' : 'fill-[url(#age-previous)] stroke-heather'}
          />
        ) : null;
      })}
      <rect x={0} y={up} width={w} height={line} className="fill-cloth-sunk stroke-edge" />
      {ticks
        .filter(([d]) => d < oldest)
        .map(([d, name], i, all) => {
          const next = all[i + 1];
          return (
            <g key={d}>
              <path d={`M${x(d)} ${up}v5`} className="stroke-edge" />
              {!next || x(next[0]) - x(d) > 26 ? (
                <text
                  x={x(d)}
                  y={up + 15}
                  textAnchor={w - x(d) < 24 ? 'end' : 'middle'} // the last is not cut off
                  fontSize={11}
                  className="fill-ink-2"
                >
                  {name}
                </text>
              ) : null}
            </g>
          );
        })}
      {posts.map((p, i) => (
        <PostMark key={p.id} post={p} x={x(p.days)} level={i} at={at} />
      ))}
    </svg>
  );
}

type Stack = { tier: string; bytes: number }[];
type Scale = ReturnType<typeof scaleSqrt<number>>;

const edge = (x: Scale, i: number) => x.invert(2 + ((w - 4) * i) / bins);

/** The bars, gathered into stretches of the ruler that are equally wide. */
function stacks(bars: Schemas['AgeBar'][], x: Scale) {
  const make = () => Array.from({ length: bins }, (): Stack => []);
  const above = make();
  const beneath = make();
  for (const b of bars) {
    const i = Math.min(bins - 1, Math.floor(((x(b.age + 0.5) - 2) / (w - 4)) * bins));
    const stack = (b.previous ? beneath : above)[i]!;
    const there = stack.find((s) => s.tier === b.tier);
    if (there) there.bytes += b.bytes;
    else stack.push({ tier: b.tier, bytes: b.bytes });
  }
  return { above, beneath };
}

function Bar({
  stack,
  left,
  right,
  scale,
  tiers,
}: {
  stack: Stack;
  left: number;
  right: number;
  scale: number;
  tiers: Tier[];
}) {
  let y = up;
  const order = [...stack].sort((a, b) => (a.tier < b.tier ? -1 : 1));
  return (
    <>
      {order.map((s) => {
        const h = s.bytes * scale;
        y -= h;
        return (
          <rect
            key={s.tier}
            x={left + 0.5}
            width={Math.max(0, right - left - 1)}
            y={y}
            height={h}
            className={tierFill(s.tier, tiers)}
          />
        );
      })}
    </>
  );
}

/** A post with its label; it is dragged, or moved with the arrow keys. */
function PostMark({ post, x, level, at }: { post: Post; x: number; level: number; at: (clientX: number) => number }) {
  const y = post.previous ? up + line + 62 : 14 + (level % 3) * 30;
  const left = x > 190;
  const text = left ? x - 10 : x + 10;
  const drag = (e: PointerEvent<SVGGElement>) => {
    if (e.currentTarget.hasPointerCapture(e.pointerId)) post.onDays(at(e.clientX));
  };
  const press = (e: KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowRight: 1, ArrowDown: -1, ArrowUp: 1, PageDown: -30, PageUp: 30 }[e.key];
    if (by === undefined) return;
    e.preventDefault();
    post.onDays(Math.max(0, post.days + by));
  };
  return (
    <g
      role="slider"
      tabIndex={0}
      aria-label={post.label}
      aria-valuenow={post.days}
      aria-valuemin={0}
      aria-valuetext={things(post.days, 'day')}
      className="cursor-ew-resize outline-none group"
      onPointerDown={(e) => {
        e.currentTarget.focus();
        e.currentTarget.setPointerCapture(e.pointerId);
      }}
      onPointerMove={drag}
      onKeyDown={press}
    >
      <path
        d={post.previous ? `M${x} ${up + line}V${y}` : `M${x} ${y}V${up}`}
        className={post.bad ? 'stroke-madder stroke-[1.5]' : 'stroke-ink stroke-[1.5]'}
      />
      <rect x={x - 9} y={y - 12} width={18} height={24} className="fill-transparent" />
      <rect
        x={x - 5.5}
        y={y - 6.5}
        width={11}
        height={13}
        rx={2}
        className="fill-cloth-raised stroke-ink stroke-[1.5] group-focus-visible:fill-woad"
      />
      <path d={`M${x - 1.5} ${y - 3}v6M${x + 1.5} ${y - 3}v6`} className="stroke-ink" />
      <text
        x={text}
        y={y + 1}
        textAnchor={left ? 'end' : 'start'}
        fontSize={11}
        className={`font-semibold ${post.bad || post.removes ? 'fill-madder' : 'fill-ink'}`}
      >
        {post.label}
      </text>
      {post.below ? (
        <text x={text} y={y + 14} textAnchor={left ? 'end' : 'start'} fontSize={11} className="fill-ink-2">
          {post.below}
        </text>
      ) : null}
    </g>
  );
}
