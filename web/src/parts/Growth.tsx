import { AxisBottom } from '@visx/axis';
import { GridRows } from '@visx/grid';
import { scaleLinear, scaleTime } from '@visx/scale';
import { AreaClosed, LinePath } from '@visx/shape';
import { useState } from 'react';

import type { Schemas } from '../api/client';
import { Size } from './Bits';
import { count, date, size } from './format';

interface Props {
  points: Schemas['UsagePoint'][];
  width: number;
  height: number;
}

interface Point {
  t: number;
  v: number;
  current: number;
}

const day = 864e5;
const edge = { left: 6, right: 122, top: 10, bottom: 22 };

/** A round step that cuts max into two to four. */
function stepFor(max: number): number {
  const units = [1, 2, 5, 10, 20, 50, 100, 200, 500];
  let base = 1;
  while (base * 1024 <= max) base *= 1024;
  for (const u of units) if (max / (u * base) <= 4) return u * base;
  return base * 1024;
}

/** The first days of months, or of quarters when there are many. */
function months(from: number, to: number): Date[] {
  const every = to - from > 200 * day ? 3 : 1;
  const d = new Date(from);
  const out: Date[] = [];
  for (
    let m = new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth() + 1, 1));
    m.getTime() < to - 20 * day;
    m = new Date(Date.UTC(m.getUTCFullYear(), m.getUTCMonth() + 1, 1))
  )
    if (m.getUTCMonth() % every === 0) out.push(m);
  return out;
}

/** A day without a point holds what the day before had: lines go in steps. */
const steps = (at: Point[]) => at.flatMap((p, i) => (i ? [{ ...at[i - 1]!, t: p.t }, p] : [p]));

/** Bytes over time as an area from zero; the last value is labelled at its edge. */
export function Growth({ points, width: w, height: h }: Props) {
  const [table, setTable] = useState(false);
  const now = Date.now();
  const at = points.map((p) => ({
    t: Math.min(now, Date.parse(p.day)),
    v: p.current + p.previous,
    current: p.current,
  }));
  const last = at[at.length - 1];
  if (!last || at.every((p) => p.v === 0))
    return <p className="empty faint">Nothing is stored yet; growth shows here from the first object on.</p>;
  last.t = now;
  const from = Math.min(at[0]!.t, now - 30 * day);
  const max = Math.max(...at.map((p) => p.v)) * 1.08;
  const x = scaleTime({ domain: [from, now], range: [edge.left, w - edge.right] });
  const y = scaleLinear({ domain: [0, max], range: [h - edge.bottom, edge.top] });
  const step = stepFor(max);
  const lines = Array.from({ length: Math.floor(max / step) }, (_, i) => (i + 1) * step);
  const line = steps(at);
  return (
    <div>
      <svg width="100%" viewBox={`0 0 ${w} ${h}`} role="img" aria-label={`Bytes stored over time, now ${size(last.v)}`}>
        <GridRows
          scale={y}
          tickValues={lines}
          left={edge.left}
          width={w - edge.left - edge.right}
          className="gridline"
          stroke=""
        />
        <defs>
          <pattern id="growth-past" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <path d="M0 0V5" stroke="var(--color-heather)" strokeWidth="2" />
          </pattern>
        </defs>
        {at.some((p) => p.v > p.current) ? (
          <>
            <AreaClosed
              data={line}
              x={(p) => x(p.t)}
              y={(p) => y(p.v)}
              yScale={y}
              fill="url(#growth-past)"
              opacity=".45"
            />
            <LinePath
              data={line}
              x={(p) => x(p.t)}
              y={(p) => y(p.v)}
              stroke="var(--color-heather)"
              strokeWidth="1.2"
              strokeLinejoin="round"
            />
            <AreaClosed
              data={line}
              x={(p) => x(p.t)}
              y={(p) => y(p.current)}
              yScale={y}
              fill="var(--color-cloth-raised)"
            />
          </>
        ) : null}
        <AreaClosed data={line} x={(p) => x(p.t)} y={(p) => y(p.current)} yScale={y} fill="var(--color-woad-wash)" />
        <LinePath
          data={line}
          x={(p) => x(p.t)}
          y={(p) => y(p.current)}
          stroke="var(--color-woad)"
          strokeWidth="1.4"
          strokeLinejoin="round"
        />
        {lines.map((v) => (
          <text key={v} className="t-ax t-halo" x={edge.left + 3} y={Math.round(y(v)) - 3}>
            {size(v).replace('.0', '')}
          </text>
        ))}
        <AxisBottom
          scale={x}
          top={h - edge.bottom}
          tickValues={months(from, now)}
          tickLength={4}
          axisLineClassName="axis"
          tickClassName="tick"
          stroke=""
          tickStroke=""
          tickFormat={(t) => (t as Date).toLocaleDateString('en-GB', { month: 'short', timeZone: 'UTC' })}
          tickComponent={({ x: tx, formattedValue }) => (
            <text className="t-ax mid" x={tx} y={edge.bottom - 5}>
              {formattedValue}
            </text>
          )}
        />
        <text className="t-ax end t-b" x={w - edge.right} y={h - 5}>
          now
        </text>
        <Ends last={last} x={w - edge.right} y={y} />
      </svg>
      <button type="button" className="link small" onClick={() => setTable(!table)} aria-expanded={table}>
        {table ? 'Hide the figures' : 'As a table'}
      </button>
      {table ? <Figures points={points} /> : null}
    </div>
  );
}

/** The last values, at the right edge. Where both would stand on one another, the total gives way. */
function Ends({ last, x, y }: { last: Point; x: number; y: (v: number) => number }) {
  const previous = last.v - last.current;
  const apart = previous > 0 && y(last.current) - y(last.v) > 34;
  return (
    <>
      {apart ? (
        <>
          <path d={`M${x + 2} ${y(last.v)}h8`} stroke="var(--color-heather)" strokeWidth="1.5" />
          <text className="t-ink" x={x + 14} y={y(last.v) + 1}>
            {size(previous)}
          </text>
          <text className="t-ax" x={x + 14} y={y(last.v) + 15}>
            previous versions
          </text>
        </>
      ) : null}
      <path d={`M${x + 2} ${y(last.current)}h8`} stroke="var(--color-woad)" strokeWidth="1.5" />
      <text className="t-ink t-b" x={x + 14} y={y(last.current) + 1}>
        {size(last.current)}
      </text>
      <text className="t-ax" x={x + 14} y={y(last.current) + 15}>
        current
      </text>
      {previous > 0 && !apart ? (
        <text className="t-ax" x={x + 14} y={y(last.current) + 30}>
          + {size(previous)} previous
        </text>
      ) : null}
    </>
  );
}

const Figures = ({ points }: { points: Schemas['UsagePoint'][] }) => (
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
        {[...points]
          .reverse()
          .slice(0, 400)
          .map((p) => (
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
);
