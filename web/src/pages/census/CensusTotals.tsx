import { useState } from 'react';

import { useCensusTotals } from '../../data/census';
import { Complaint, Size } from '../../parts/Bits';
import { Choice } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { count, size, things, visible } from '../../parts/format';

export function CensusTotals({
  census,
  run,
  where,
  columns,
}: {
  census: string;
  run: number;
  where: string;
  columns: string[];
}) {
  const named = ['type', 'tier', 'key', ...columns].find((c) => columns.includes(c)) ?? 'key';
  const [by, setBy] = useState(columns.includes('key') ? 'key' : named);
  const t = useCensusTotals(census, run, by, where);
  const most = t.data?.totals[0]?.rows ?? 1;
  return (
    <>
      <div className="row items-end mb-14 gap-18">
        <Choice label="Summed by" value={by} onChange={setBy} options={columns.map((c) => [c, c])} width={220} />
        {t.data ? (
          <p className="dim">
            {things(t.data.rows, 'row')} by {by}: {things(t.data.values, 'value')}, {size(t.data.bytes)}
          </p>
        ) : null}
      </div>
      {t.error ? <Complaint error={t.error} /> : null}
      {t.data ? (
        <Listing
          rows={t.data.totals}
          id={(x) => x.value}
          empty={<p className="empty faint">No rows match.</p>}
          columns={[
            {
              head: by,
              cell: (x) => visible(x.value) || <span className="faint">none</span>,
              className: 'key cut max-w-420',
            },
            {
              head: '',
              className: 'w-full',
              cell: (x) => (
                <div className="split" aria-hidden>
                  <i className="u-cur" style={{ width: `${(100 * x.rows) / most}%` }} />
                </div>
              ),
            },
            { head: 'Rows', figure: true, cell: (x) => count(x.rows) },
            { head: 'Size', figure: true, cell: (x) => <Size bytes={x.bytes} /> },
          ]}
        />
      ) : t.error ? null : (
        <p className="faint">Reading</p>
      )}
    </>
  );
}
