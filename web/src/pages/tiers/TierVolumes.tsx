import { type Tier } from '../../data/lifecycle';
import { Section, Size } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { size } from '../../parts/format';

/** The directories of the tiers, with their room. */
export function TierVolumes({ tiers }: { tiers: Tier[] }) {
  const rows = tiers.flatMap((t) => (t.volumes ?? []).map((v) => ({ ...v, tier: t.name })));
  return (
    <div className="mt-22">
      <Section title="Volumes" aside="each is known by its marker file; one that is away is never mistaken for loss">
        <Listing
          rows={rows}
          id={(v) => v.dir}
          columns={[
            { head: 'Directory or bucket', cell: (v) => v.dir, className: 'key cut max-w-420', title: (v) => v.dir },
            { head: 'Tier', cell: (v) => v.tier },
            {
              head: 'Used',
              cell: (v) =>
                v.total ? (
                  <div
                    className="split w-180"
                    role="img"
                    aria-label={`${size(v.total - v.free)} of ${size(v.total)} used`}
                  >
                    <i className="u-cur" style={{ width: `${(100 * (v.total - v.free)) / v.total}%` }} />
                    <i className="flex-1 border-b-[1.5px] border-dotted border-b-edge h-[7.5px]" />
                  </div>
                ) : v.elsewhere ? (
                  <span className="dim">another store</span>
                ) : null,
            },
            { head: 'Free', figure: true, cell: (v) => (v.total ? <Size bytes={v.free} /> : null) },
            { head: 'Of', figure: true, cell: (v) => (v.total ? <Size bytes={v.total} /> : null) },
            {
              head: 'State',
              cell: (v) => (v.away ? <State kind="wrong">{v.away}</State> : <State kind="good">there</State>),
            },
          ]}
        />
      </Section>
    </div>
  );
}
