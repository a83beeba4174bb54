import { useState } from 'react';

import type { Schemas } from '../api/client';
import { Size } from './Bits';
import { count, date, size } from './format';

interface Props {
  points: Schemas['UsagePoint'][];
  width: number;
  height: number;
}

const r1 = (n: number) => n.toFixed(1);

/** A round step that cuts max into two to four. */
function stepFor(max: number): number {
  const units = [1, 2, 5, 10, 20, 50, 100, 200, 500];
  let base = 1;
  while (base * 1024 <= max) base *= 1024;
  for (const u of units) if (max / (u * base) <= 4) return u * base;
  return base * 1024;
}

/** Bytes over time as an area from zero; the last value is labelled at its edge. */
export function Growth({ points, width: w, height: h }: Props) {
  const [table, setTable] = useState(false);
  const L = 6;
  const R = 122;
  const T = 10;
  const B = 22;
  const now = Date.now();
  const at = points.map((p) => ({ t: Math.min(now, Date.parse(p.day)), v: p.current + p.previous, current: p.current }));
  const last = at[at.length - 1];
  if (!last || at.every((p) => p.v === 0)) return <p className="empty faint">Nothing is stored yet; growth shows here from the first object on.</p>;
  last.t = now;
  // A day without a point holds what the day before had: the line goes in steps.
  const from = Math.min(at[0]!.t, now - 30 * 864e5);
  const max = Math.max(...at.map((p) => p.v)) * 1.08;
  const x = (t: number) => L + ((t - from) / (now - from)) * (w - L - R);
  const y = (v: number) => T + (h - T - B) * (1 - v / max);
  let line = `M${r1(x(at[0]!.t))} ${r1(y(at[0]!.v))}`;
  for (const p of at.slice(1)) line += `H${r1(x(p.t))}V${r1(y(p.v))}`;
  const area = `${line}V${h - B}H${r1(x(at[0]!.t))}Z`;
  let under = `M${r1(x(at[0]!.t))} ${r1(y(at[0]!.current))}`;
  for (const p of at.slice(1)) under += `H${r1(x(p.t))}V${r1(y(p.current))}`;
  const current = `${under}V${h - B}H${r1(x(at[0]!.t))}Z`;
  const previous = last.v - last.current;
  // Where both figures would stand on one another, the total gives way.
  const apart = previous > 0 && y(last.current) - y(last.v) > 34;
  const step = stepFor(max);
  const lines: number[] = [];
  for (let v = step; v <= max; v += step) lines.push(v);
  const months: [number, string][] = [];
  const every = now - from > 200 * 864e5 ? 3 : 1;
  const d = new Date(from);
  for (let m = new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() + 1, 1)); m.getTime() < now - 20 * 864e5; m = new Date(Date.UTC(m.getUTCFullYear(), m.getUTCMonth() + 1, 1)))
    if (m.getUTCMonth() % every === 0) months.push([m.getTime(), m.toLocaleDateString('en-GB', { month: 'short', timeZone: 'UTC' })]);
  return (
    <div>
      <svg width="100%" viewBox={`0 0 ${w} ${h}`} role="img" aria-label={`Bytes stored over time, now ${size(last.v)}`}>
        {lines.map((v) => (
          <path key={v} className="gridline" d={`M${L} ${r1(y(v))}H${w - R}`} />
        ))}
        <defs>
          <pattern id="growth-past" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <path d="M0 0V5" stroke="var(--color-heather)" strokeWidth="2" />
          </pattern>
        </defs>
        {previous > 0 || at.some((p) => p.v > p.current) ? (
          <>
            <path d={area} fill="url(#growth-past)" opacity=".45" />
            <path d={line} fill="none" stroke="var(--color-heather)" strokeWidth="1.2" strokeLinejoin="round" />
            <path d={current} fill="var(--color-cloth-raised)" />
          </>
        ) : null}
        <path d={current} fill="var(--color-woad-wash)" />
        <path d={under} fill="none" stroke="var(--color-woad)" strokeWidth="1.4" strokeLinejoin="round" />
        {lines.map((v) => (
          <text key={v} className="t-ax" x={L + 3} y={Number(r1(y(v))) - 3}>
            {size(v).replace('.0', '')}
          </text>
        ))}
        <path className="axis" d={`M${L} ${h - B}H${w - R}`} />
        {months.map(([t, name]) => (
          <g key={t}>
            <path className="axis" d={`M${r1(x(t))} ${h - B}v4`} />
            <text className="t-ax mid" x={r1(x(t))} y={h - 5}>
              {name}
            </text>
          </g>
        ))}
        <text className="t-ax end t-b" x={w - R} y={h - 5}>
          now
        </text>
        {apart ? (
          <>
            <path d={`M${w - R + 2} ${r1(y(last.v))}h8`} stroke="var(--color-heather)" strokeWidth="1.5" />
            <text className="t-ink" x={w - R + 14} y={r1(y(last.v) + 1)}>
              {size(previous)}
            </text>
            <text className="t-ax" x={w - R + 14} y={r1(y(last.v) + 15)}>
              previous versions
            </text>
          </>
        ) : null}
        <path d={`M${w - R + 2} ${r1(y(last.current))}h8`} stroke="var(--color-woad)" strokeWidth="1.5" />
        <text className="t-ink t-b" x={w - R + 14} y={r1(y(last.current) + 1)}>
          {size(last.current)}
        </text>
        <text className="t-ax" x={w - R + 14} y={r1(y(last.current) + 15)}>
          current
        </text>
        {previous > 0 && !apart ? (
          <text className="t-ax" x={w - R + 14} y={r1(y(last.current) + 30)}>
            + {size(previous)} previous
          </text>
        ) : null}
      </svg>
      <button type="button" className="link small" onClick={() => setTable(!table)} aria-expanded={table}>
        {table ? 'Hide the figures' : 'As a table'}
      </button>
      {table ? (
        <div className="max-h-180 overflow-auto">
          <table className="tight">
            <thead>
              <tr>
                <th>Day</th>
                <th className="num">Objects</th>
                <th className="num">Current</th>
                <th className="num">Previous</th>
              </tr>
            </thead>
            <tbody>
              {[...points].reverse().slice(0, 400).map((p) => (
                <tr key={p.day}>
                  <td>{date(new Date(p.day))}</td>
                  <td className="num">{count(p.objects)}</td>
                  <td className="num">
                    <Size bytes={p.current} />
                  </td>
                  <td className="num">
                    <Size bytes={p.previous} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : null}
    </div>
  );
}
