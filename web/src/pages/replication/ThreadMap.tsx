import { Shape, dyeOf } from '../../parts/Marks';
import { type Post, type Strand, type Thread, layOut, thickness, width } from './map';
import { endpointShape, ruleShape } from './states';

interface Props {
  strands: Strand[];
  chosen: string;
  onChoose: (of: string) => void;
}

/** Buckets, endpoints and folders as posts, rules and sync jobs as threads between them. */
export function ThreadMap({ strands, chosen, onChoose }: Props) {
  const { posts, threads, height } = layOut(strands);
  return (
    <figure>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        className="w-full"
        role="group"
        aria-label="Threads from buckets to where they are copied"
      >
        <text x={10} y={14} className="fill-ink-3 text-[11px]">
          copied from
        </text>
        <text x={width - 10} y={14} textAnchor="end" className="fill-ink-3 text-[11px]">
          written to
        </text>
        <path d={`M0 22H${width}`} className="stroke-hairline" />
        {threads.map((t) => (
          <Line key={t.id} t={t} chosen={t.of === chosen} onChoose={onChoose} />
        ))}
        {threads.map((t) => (
          <Label key={t.id} t={t} chosen={t.of === chosen} onChoose={onChoose} />
        ))}
        {posts.map((p) => (
          <PostMark key={`${p.x} ${p.id}`} p={p} />
        ))}
      </svg>
      <figcaption className="row flex-wrap whitespace-nowrap small dim mt-8 pt-6 gap-x-12 gap-y-4 border-t border-t-hairline">
        <span>thicker: more bytes a second</span>
        <span>dashed: broken off</span>
        <span>dotted: by a sync job</span>
        {['keeps up', 'behind', 'late', 'failing', 'paused'].map((s) => (
          <span key={s} className={`state ${dyeOf(ruleShape[s]!)}`}>
            <Shape kind={ruleShape[s]!} size={11} />
            <span className="text-ink-2">{s}</span>
          </span>
        ))}
      </figcaption>
    </figure>
  );
}

/** A thread with its label and the mark at its end; a button for the keyboard too. */
function Line({ t, chosen, onChoose }: { t: Thread; chosen: boolean; onChoose: (of: string) => void }) {
  const { a, b } = t;
  const mid = (a.x + b.x) / 2;
  const d = `M${a.x + 6} ${a.y}C${mid} ${a.y} ${mid} ${b.y} ${b.x - 24} ${b.y}`;
  return (
    <g
      role="button"
      tabIndex={0}
      aria-pressed={chosen}
      aria-label={`${t.name}, from ${t.from.name} to ${t.address}: ${t.state}`}
      className="thread cursor-pointer"
      onClick={() => onChoose(t.of)}
      onKeyDown={(e) => {
        if (e.key === 'Enter' || e.key === ' ') onChoose(t.of);
      }}
    >
      <path d={d} fill="none" stroke="transparent" strokeWidth={16} />
      <path
        d={d}
        fill="none"
        className={chosen ? 'stroke-woad' : 'stroke-ink-3'}
        strokeWidth={t.job ? Math.max(2.5, thickness(t.rate)) : thickness(t.rate)}
        strokeLinecap={t.job && !t.broken ? 'round' : undefined}
        strokeDasharray={t.broken ? '7 5' : t.job ? '0.1 7' : undefined}
      />
      <g transform={`translate(${b.x - 20} ${b.y - 6})`} className={dyeOf(t.shape)}>
        <Shape kind={t.shape} />
      </g>
    </g>
  );
}

/** The label of a thread, above all threads. */
function Label({ t, chosen, onChoose }: { t: Thread; chosen: boolean; onChoose: (of: string) => void }) {
  const { x, y, width: w } = t.label;
  return (
    <g className="cursor-pointer" aria-hidden onClick={() => onChoose(t.of)}>
      <rect
        x={x - w / 2}
        y={y - 10}
        width={w}
        height={20}
        rx={3}
        className={chosen ? 'fill-woad stroke-woad' : 'fill-cloth-raised stroke-hairline'}
      />
      <text x={x - w / 2 + 9} y={y + 4} className={`text-[12px] font-[650] ${chosen ? 'fill-on-dye' : 'fill-ink'}`}>
        {t.name}
      </text>
      <text
        x={x + w / 2 - 9}
        y={y + 4}
        textAnchor="end"
        className={`text-[11px] ${chosen ? 'fill-on-dye' : 'fill-ink-2'}`}
      >
        {t.says}
      </text>
    </g>
  );
}

/** A post, with its name on the outer side. */
function PostMark({ p }: { p: Post }) {
  const left = p.x < width / 2;
  const x = left ? p.x - 12 : p.x + 16;
  const anchor = left ? 'end' : 'start';
  const kind = p.state ? endpointShape[p.state] : undefined;
  return (
    <g>
      <rect x={p.x - 4} y={p.y} width={9} height={p.height} className="fill-cloth-sunk stroke-ink-3" />
      <path d={`M${p.x - 8} ${p.y + p.height}h17`} className="stroke-ink" strokeWidth={2} />
      <text x={x} y={p.y + 15} textAnchor={anchor} className="text-[13px] font-[650] fill-ink">
        {p.name}
      </text>
      <text x={x} y={p.y + 30} textAnchor={anchor} className="text-[12px] fill-ink-3">
        {p.about}
      </text>
      {kind ? (
        <>
          <g transform={`translate(${x} ${p.y + 36})`} className={dyeOf(kind)}>
            <Shape kind={kind} size={10} />
          </g>
          <text x={x + 14} y={p.y + 45} className="text-[12px] fill-ink-2">
            {p.state}
          </text>
        </>
      ) : null}
    </g>
  );
}
