import { scaleLog, scaleTime } from '@visx/scale';

import { type Replication, useLags } from '../../data/replication';
import { span } from './states';

const w = 640;
const h = 150;
const edge = { left: 46, right: 8, top: 8, bottom: 20 };
const hours = 3;

/** How long half and 99 % of changes waited, by minute, from milliseconds to hours. */
export function LagChart({ rule }: { rule: Replication }) {
  const lags = useLags(rule.name);
  const points = (lags.data ?? []).filter((p) => p.count);
  const now = Date.now();
  const x = scaleTime({ domain: [now - hours * 3.6e6, now], range: [edge.left, w - edge.right] });
  const top = Math.max(10, ...points.map((p) => p.p99), rule.lagTarget?.seconds ?? 0) * 2;
  const y = scaleLog({ domain: [0.005, top], range: [h - edge.bottom, edge.top], clamp: true });
  const marks = [0.01, 0.1, 1, 10, 60, 600, 3600, 36_000].filter((s) => s < top);
  if (!points.length)
    return <p className="faint py-6">Nothing was copied in the last {hours} hours, so there is no lag to show.</p>;
  return (
    <figure className="pt-6">
      <svg viewBox={`0 0 ${w} ${h}`} className="w-full" role="img" aria-label={spoken(rule, points.length)}>
        {marks.map((s) => (
          <g key={s}>
            <path d={`M${edge.left} ${y(s)}H${w - edge.right}`} className="stroke-hairline" />
            <text x={edge.left - 6} y={y(s) + 4} textAnchor="end" className="fill-ink-3 text-[11px]">
              {span(s)}
            </text>
          </g>
        ))}
        {[3, 2, 1, 0].map((k) => (
          <text
            key={k}
            x={x(new Date(now - k * 3.6e6))}
            y={h - 5}
            textAnchor={k === 0 ? 'end' : k === 3 ? 'start' : 'middle'}
            className="fill-ink-3 text-[11px]"
          >
            {k ? `${k} h ago` : 'now'}
          </text>
        ))}
        {rule.lagTarget ? (
          <path
            d={`M${edge.left} ${y(rule.lagTarget.seconds)}H${w - edge.right}`}
            className="stroke-madder"
            strokeDasharray="4 4"
          />
        ) : null}
        {points.map((p) => {
          const at = x(new Date(p.at));
          return (
            <g key={p.at + p.target}>
              <path d={`M${at} ${y(p.p50)}V${y(p.p99)}`} className="stroke-weld" strokeWidth={2} />
              <circle cx={at} cy={y(p.p50)} r={2.4} className="fill-woad" />
            </g>
          );
        })}
      </svg>
      <figcaption className="small dim">
        Bead: half of the changes; line: up to 99 %.{rule.lagTarget ? ' Dashed: the lag target.' : ''}
      </figcaption>
    </figure>
  );
}

const spoken = (rule: Replication, minutes: number) =>
  `Lags of ${rule.name} in ${minutes} minutes; in the last hour ` +
  rule.targets.map((t) => `half below ${span(t.lag.p50)}, 99 percent below ${span(t.lag.p99)}`).join(', ');
