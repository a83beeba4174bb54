import { type Bead, type Lane, r1 } from './history';

interface Props {
  bead: Bead;
  lanes: Lane[];
  x: (t: number) => number;
  y: (lane: number) => number;
  radius: (bytes: number) => number;
}

/** What joins a version to the one it came from: a rename to the lane before, a restore to a bead of its own. */
export function Tie({ bead: b, lanes, x, y, radius }: Props) {
  const o = b.v.origin;
  const X = x(b.at);
  const Y = y(b.lane);
  if (o?.how === 'renamed') {
    const was = lanes.findIndex((l) => l.bucket === o.bucket && l.key === o.key);
    if (was < 0) return null;
    const y0 = y(was);
    return (
      <path
        d={`M${r1(X - 10)} ${y0}C${r1(X)} ${y0} ${r1(X - 10)} ${Y} ${r1(X)} ${Y}`}
        stroke="var(--color-ink)"
        strokeWidth="2.2"
        fill="none"
      />
    );
  }
  const was = o?.how === 'restored' && lanes[b.lane]!.beads.find((q) => q.v.version === o.version);
  if (!was) return null;
  const X0 = x(was.at);
  const deep = Y + 30;
  const from = Y + radius(was.v.size) + 2;
  const to = Y + radius(b.v.size);
  return (
    <g stroke="var(--color-heather)" strokeWidth="1.5" fill="none">
      <path
        d={`M${r1(X0)} ${from}C${r1(X0 + 14)} ${deep} ${r1(X - 18)} ${deep} ${r1(X - 2)} ${to + 5}`}
        strokeDasharray="5 3"
      />
      <path d={`M${r1(X - 6.5)} ${to + 8}l4.5 -4 1.5 6`} />
    </g>
  );
}
