import { exact, moment, size } from '../../parts/format';
import { type Bead, r1 } from './history';

interface Props {
  bead: Bead;
  x: number;
  y: number;
  r: number;
  /** It is of the key that is shown, and can be chosen. */
  own: boolean;
  /** It is chosen. */
  on: boolean;
  /** Two lines above it, and where their middle is. */
  label?: [string, string, number];
  onChoose: (version: string) => void;
}

/** A version on its thread. */
export function BeadMark({ bead: b, x: X, y: Y, r, own, on, label, onChoose }: Props) {
  const what = said(b);
  return (
    <g
      role={own ? 'button' : undefined}
      tabIndex={own ? (on ? 0 : -1) : undefined}
      aria-pressed={own ? on : undefined}
      aria-label={`${b.title}, ${what}, ${moment(new Date(b.at))}, by ${b.v.by}`}
      className={own ? 'cursor-pointer outline-offset-6' : undefined}
      onClick={own ? () => onChoose(b.v.version) : undefined}
      onKeyDown={(e) => own && e.key === 'Enter' && onChoose(b.v.version)}
    >
      <title>{`${b.v.version}: ${what}, by ${b.v.by}${b.v.source ? ' from ' + b.v.source : ''}, ${exact(new Date(b.at))}`}</title>
      <circle cx={X} cy={Y} r={Math.max(10, r + 2)} fill="transparent" />
      <Shape b={b} X={X} Y={Y} r={r} />
      {on ? (
        <circle cx={X} cy={Y} r={Math.max(9, r) + 4} fill="none" stroke="var(--color-woad)" strokeWidth="1.6" />
      ) : null}
      {label ? (
        <>
          <text className="t-ink mid" x={r1(label[2])} y={Y - 35}>
            <tspan className="t-b">{label[0]}</tspan>
          </text>
          <text className="t-ax mid" x={r1(label[2])} y={Y - 21}>
            {label[1]}
          </text>
        </>
      ) : null}
    </g>
  );
}

function said(b: Bead): string {
  if (b.went) return `renamed to ${b.went.key}`;
  if (b.v.marker) return 'deleted';
  return b.v.origin ? `${b.v.origin.how}, ${size(b.v.size)}` : `written, ${size(b.v.size)}`;
}

function Shape({ b, X, Y, r }: { b: Bead; X: number; Y: number; r: number }) {
  if (b.went) return null;
  if (b.v.marker)
    return (
      <>
        <circle cx={X} cy={Y} r="8" fill="var(--color-cloth-raised)" />
        <path d={`M${X - 4.5} ${Y - 4.5}l9 9M${X + 4.5} ${Y - 4.5}l-9 9`} stroke="var(--color-ink)" strokeWidth="2.4" />
      </>
    );
  if (b.v.latest) return <circle cx={X} cy={Y} r={r} fill="var(--color-woad)" />;
  const open = { fill: 'var(--color-cloth-raised)' };
  if (b.v.origin?.how === 'renamed')
    return <rect x={X - 5} y={Y - 5} width="10" height="10" {...open} stroke="var(--color-ink)" strokeWidth="1.6" />;
  return (
    <>
      <circle cx={X} cy={Y} r={r} {...open} stroke="var(--color-heather)" strokeWidth="1.8" />
      <path d={`M${X} ${Y - r}a${r} ${r} 0 0 0 0 ${2 * r}Z`} fill="var(--color-heather)" />
    </>
  );
}
