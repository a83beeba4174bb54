import { Treemap, hierarchy, treemapSquarify } from '@visx/hierarchy';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { Complaint, Section } from '../../parts/Bits';
import { bucketPage, size, things, visible } from '../../parts/format';
import { live } from '../../data/keys';

type Prefix = Schemas['PrefixInfo'];

const width = 980;
const height = 300;
const most = 60; // patches; the rest are one

interface Patch {
  name: string;
  info?: Prefix;
  bytes: number;
  children?: Patch[];
}

/** The prefixes of a bucket as a map by bytes, to walk into. */
export function PrefixMap({ bucket }: { bucket: string }) {
  const [prefix, setPrefix] = useState('');
  const list = useQuery({
    queryKey: live('prefix-map', bucket, prefix),
    queryFn: async () =>
      (
        await ask(
          api.GET('/api/v1/buckets/{bucket}/prefixes', {
            params: { path: { bucket }, query: { prefix, limit: 1000 } },
          }),
        )
      ).prefixes,
    placeholderData: (d) => d,
  });
  const steps = prefix.split('/').slice(0, -1);
  const patches = patchesOf(list.data ?? []);
  return (
    <Section
      title="Map of prefixes"
      aside="by bytes, previous versions too; choose one to walk into it"
      end={
        <Link className="small" to={bucketPage(bucket, prefix)}>
          Browse here
        </Link>
      }
    >
      <nav className="key small pt-8" aria-label="Where the map is">
        <button type="button" className="link" onClick={() => setPrefix('')}>
          {bucket}
        </button>
        {steps.map((s, i) => (
          <span key={i}>
            /
            <button type="button" className="link" onClick={() => setPrefix(`${steps.slice(0, i + 1).join('/')}/`)}>
              {visible(s)}
            </button>
          </span>
        ))}
      </nav>
      {list.error ? <Complaint error={list.error} /> : null}
      {patches.length ? (
        <Chart patches={patches} onChoose={setPrefix} />
      ) : list.data ? (
        <p className="empty faint">No prefix beneath this one: its objects have no slash further on.</p>
      ) : null}
    </Section>
  );
}

/** The largest prefixes, and the rest as one. */
function patchesOf(list: Prefix[]): Patch[] {
  const all = list
    .map((p) => ({ name: p.prefix, info: p, bytes: p.bytes + p.previousBytes }))
    .filter((p) => p.bytes > 0)
    .sort((a, b) => b.bytes - a.bytes);
  const rest = all.slice(most);
  if (!rest.length) return all;
  return [...all.slice(0, most), { name: `${rest.length} others`, bytes: rest.reduce((n, p) => n + p.bytes, 0) }];
}

function Chart({ patches, onChoose }: { patches: Patch[]; onChoose: (prefix: string) => void }) {
  const root = hierarchy<Patch>({ name: '', bytes: 0, children: patches }).sum((p) => (p.children ? 0 : p.bytes));
  return (
    <svg className="mt-8" width="100%" viewBox={`0 0 ${width} ${height}`} role="group" aria-label="Prefixes by bytes">
      <Treemap root={root} size={[width, height]} tile={treemapSquarify} paddingInner={2} round>
        {(tree) =>
          (tree.children ?? []).map((n) => (
            <PatchMark
              key={n.data.name}
              patch={n.data}
              x={n.x0}
              y={n.y0}
              w={n.x1 - n.x0}
              h={n.y1 - n.y0}
              onChoose={onChoose}
            />
          ))
        }
      </Treemap>
    </svg>
  );
}

function PatchMark({
  patch,
  x,
  y,
  w,
  h,
  onChoose,
}: {
  patch: Patch;
  x: number;
  y: number;
  w: number;
  h: number;
  onChoose: (prefix: string) => void;
}) {
  const { info } = patch;
  const previous = info && patch.bytes ? (info.previousBytes / patch.bytes) * h : 0;
  const short = info ? (info.prefix.split('/').at(-2) ?? '') : patch.name;
  const says = info
    ? `${visible(info.prefix)}: ${things(info.objects, 'object')}, ${size(info.bytes)}, and ${size(info.previousBytes)} in previous versions`
    : `${patch.name}: ${size(patch.bytes)}`;
  return (
    <g
      className={info ? 'cursor-pointer' : undefined}
      role={info ? 'button' : undefined}
      tabIndex={info ? 0 : undefined}
      aria-label={says}
      onClick={() => info && onChoose(info.prefix)}
      onKeyDown={(e) => e.key === 'Enter' && info && onChoose(info.prefix)}
    >
      <title>{says}</title>
      <rect
        x={x}
        y={y}
        width={w}
        height={h}
        fill="var(--color-woad-wash)"
        stroke="var(--color-woad)"
        strokeWidth="0.8"
      />
      {previous >= 1 ? (
        <rect x={x} y={y + h - previous} width={w} height={previous} fill="var(--color-heather)" opacity=".35" />
      ) : null}
      {w > 56 && h > 20 ? (
        <text x={x + 6} y={y + 16} className="t-ax" fontWeight="600">
          {clip(visible(short), w)}
        </text>
      ) : null}
      {w > 56 && h > 36 ? (
        <text x={x + 6} y={y + 31} className="t-ax">
          {size(patch.bytes)}
        </text>
      ) : null}
    </g>
  );
}

const clip = (s: string, w: number) => {
  const n = Math.floor((w - 10) / 7);
  return s.length > n ? `${s.slice(0, Math.max(1, n - 1))}…` : s;
};
