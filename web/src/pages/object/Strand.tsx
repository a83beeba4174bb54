import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from 'react';

import { date, exact, middle, size, visible } from '../../parts/format';
import { BeadMark } from './BeadMark';
import { Tie } from './Tie';
import { type Bead, type Chapter, lanesOf, r1, ticks } from './history';

interface Props {
  chapters: Chapter[];
  chosen: string; // the id of a version of the asked key
  onChoose: (version: string) => void;
}

/** The history of a key as beads on a line in time: a lane for each name it had. */
export function Strand({ chapters, chosen, onChoose }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [w, setW] = useState(1040);
  useEffect(() => {
    if (!box.current) return;
    const see = new ResizeObserver(([e]) => e && setW(Math.max(520, Math.round(e.contentRect.width))));
    see.observe(box.current);
    return () => see.disconnect();
  }, []);
  const { now, lanes } = useMemo(() => {
    const now = Date.now();
    return { now, lanes: lanesOf(chapters, now) };
  }, [chapters]);
  const all = lanes.flatMap((l) => l.beads);
  const asked = lanes.find((l) => l.asked);
  if (!asked || !all.length) return null;

  const left = lanes.length > 1 ? 252 : 22;
  const right = 34;
  const top = 54;
  const gap = 82;
  const h = top + (lanes.length - 1) * gap + 58;
  const axis = h - 22;
  const first = Math.min(...all.map((b) => b.at));
  const from = first - (now - first) * 0.03 - 1000;
  const x = (t: number) => left + ((t - from) / (now - from)) * (w - left - right);
  const y = (lane: number) => top + lane * gap;
  const most = Math.max(1, ...all.map((b) => b.v.size));
  const radius = (bytes: number) => 4 + 8 * Math.sqrt(bytes / most);
  const mine = asked.beads;

  // Labels go where there is room: the chosen and the current first, then the newest.
  const placed: { lane: number; a: number; b: number }[] = [];
  const labels = new Map<Bead, [string, string, number]>();
  const rank = (b: Bead) => (b.v.version === chosen && lanes[b.lane] === asked ? 0 : b.v.latest ? 1 : 2);
  for (const b of [...all].sort((p, q) => rank(p) - rank(q) || q.at - p.at)) {
    if (b.went || b.v.origin?.how === 'renamed') continue; // the knot of a rename has its own
    const text: [string, string] = b.v.marker
      ? ['deleted', `by ${b.v.by}`]
      : [
          b.v.latest ? `${b.title}, current` : b.title,
          b.v.origin?.how === 'restored' ? `${size(b.v.size)}, restored` : size(b.v.size),
        ];
    const half = Math.max(text[0].length * 6.6, text[1].length * 6) / 2 + 5;
    const mid = Math.min(Math.max(x(b.at), left - 10 + half), w - right - half);
    if (placed.some((p) => p.lane === b.lane && p.a < mid + half && p.b > mid - half)) continue;
    placed.push({ lane: b.lane, a: mid - half, b: mid + half });
    labels.set(b, [...text, mid]);
  }

  const press = (e: KeyboardEvent) => {
    const i = mine.findIndex((b) => b.v.version === chosen);
    const to =
      e.key === 'ArrowLeft'
        ? mine[Math.max(0, i - 1)]
        : e.key === 'ArrowRight'
          ? mine[Math.min(mine.length - 1, i + 1)]
          : undefined;
    if (!to) return;
    e.preventDefault();
    onChoose(to.v.version);
  };

  return (
    <div className="overflow-hidden" ref={box} onKeyDown={press}>
      <svg
        width={w}
        height={h}
        viewBox={`0 0 ${w} ${h}`}
        role="group"
        aria-label="History of the key: choose a version with the arrow keys"
      >
        {ticks(from, now, Math.max(3, Math.floor((w - left - right) / 84))).map((t) =>
          x(t.at) > left && x(t.at) < w - right - 24 ? (
            <g key={t.at}>
              <path
                className="gridline"
                d={`M${r1(x(t.at))} 6V${axis}`}
                style={t.strong ? { stroke: 'var(--color-edge)', strokeDasharray: '1 3' } : undefined}
              />
              <path className="axis" d={`M${r1(x(t.at))} ${axis}v${t.strong ? 6 : 3}`} />
              <text className={`t-ax mid ${t.strong ? 't-b' : ''}`} x={r1(x(t.at))} y={h - 5}>
                {t.text}
              </text>
            </g>
          ) : null,
        )}
        <path className="axis" d={`M${left} ${axis}H${w - right}`} />
        <path d={`M${w - right} 6V${axis + 6}`} stroke="var(--color-ink)" strokeWidth="1.2" />
        <text className="t-ax t-b mid" x={w - right} y={h - 5}>
          now
        </text>
        {lanes.map((l, i) => (
          <g key={l.bucket + l.key}>
            {lanes.length > 1 ? (
              <>
                <circle
                  cx="6"
                  cy={y(i) - 5}
                  r="4"
                  fill={l.asked ? 'var(--color-woad)' : 'var(--color-cloth-raised)'}
                  stroke={l.asked ? 'var(--color-woad)' : 'var(--color-heather)'}
                  strokeWidth="1.6"
                />
                <text className="t-key" x="18" y={y(i) - 1}>
                  {middle(visible((l.bucket === asked.bucket ? '' : l.bucket + '/') + l.key), 30)}
                  <title>{`${l.bucket}/${visible(l.key)}`}</title>
                </text>
                <text className="t-ax" x="18" y={y(i) + 13}>
                  {l.asked ? 'this name' : 'another name'}, since {date(new Date(l.first))}
                </text>
              </>
            ) : null}
            {l.beads.map((b) => (
              <path
                key={b.v.number}
                d={`M${r1(x(b.at))} ${y(i)}H${r1(x(b.until))}`}
                fill="none"
                {...(b.went
                  ? { stroke: 'var(--color-edge)', strokeWidth: 1.2, strokeDasharray: '1 4' }
                  : b.v.marker
                    ? { stroke: 'var(--color-ink-3)', strokeWidth: 1.6, strokeDasharray: '2 4' }
                    : { stroke: 'var(--color-ink)', strokeWidth: 2.2 })}
              />
            ))}
          </g>
        ))}
        {all.map((b) => (
          <Tie key={b.v.number} bead={b} lanes={lanes} x={x} y={y} radius={radius} />
        ))}
        {all.flatMap((b) =>
          (b.v.revisions ?? []).map((r) => (
            <path
              key={`${b.v.number}.${r.revision}`}
              d={`M${r1(x(Date.parse(r.at)))} ${y(b.lane) - 5}v10`}
              stroke="var(--color-ink)"
              strokeWidth="1.6"
            >
              <title>{`Metadata revision ${r.revision}, by ${r.by}, ${exact(new Date(r.at))}`}</title>
            </path>
          )),
        )}
        {all.map((b) => {
          const own = lanes[b.lane] === asked;
          return (
            <BeadMark
              key={b.v.number}
              bead={b}
              x={r1(x(b.at))}
              y={y(b.lane)}
              r={r1(radius(b.v.size))}
              own={own}
              on={own && b.v.version === chosen}
              label={labels.get(b)}
              onChoose={onChoose}
            />
          );
        })}
      </svg>
    </div>
  );
}
