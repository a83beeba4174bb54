import { useState } from 'react';
import { Link } from 'react-router';

import { type Difference, useCensusDifference, useCensusRuns } from '../../data/census';
import { Complaint, When } from '../../parts/Bits';
import { Choice } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State, type StateKind } from '../../parts/Marks';
import { count, objectPage, visible } from '../../parts/format';

const shapes: Record<Difference['change'], StateKind> = { came: 'good', went: 'off', changed: 'run' };

export function CensusDifferences({ census, run }: { census: string; run: number }) {
  const runs = useCensusRuns(census, String(run));
  const earlier = (runs.data ?? []).filter((r) => r.state === 'done' && r.id < run);
  const [chosen, setChosen] = useState(0);
  const d = useCensusDifference(census, run, chosen);
  const of = (x: Difference, name: string) => (x.is ?? x.was)?.[d.data?.columns.indexOf(name) ?? -1] ?? '';
  return (
    <>
      {earlier.length ? (
        <div className="mb-14">
          <Choice
            label="Since"
            width={260}
            value={String(chosen)}
            onChange={(v) => setChosen(Number(v))}
            options={[
              ['0', 'the run before'],
              ...earlier.map((r): [string, string] => [String(r.id), `run ${r.id}, ${count(r.rows)} rows`]),
            ]}
          />
        </div>
      ) : null}
      {d.error ? <Complaint error={d.error} /> : null}
      {d.data ? (
        <>
          <p className="row gap-18 mb-14">
            <span>
              since <When at={d.data.was.asOf ?? d.data.was.asked} /> (run {d.data.was.id})
            </span>
            <State kind="good">{count(d.data.came)} came</State>
            <State kind="off">{count(d.data.went)} went</State>
            <State kind="run">{count(d.data.changed)} changed</State>
          </p>
          <Listing
            rows={d.data.list.map((x, i) => ({ ...x, i }))}
            id={(x) => x.i}
            empty={<p className="empty faint">Everything is as it was.</p>}
            columns={[
              { head: 'What', cell: (x) => <State kind={shapes[x.change]}>{x.change}</State> },
              {
                head: 'Object',
                className: 'key cut max-w-420',
                cell: (x) =>
                  x.change === 'went' ? (
                    visible(`${of(x, 'bucket')}/${of(x, 'key')}`)
                  ) : (
                    <Link to={objectPage(of(x, 'bucket'), of(x, 'key'), '')}>
                      {visible(`${of(x, 'bucket')}/${of(x, 'key')}`)}
                    </Link>
                  ),
              },
              { head: 'Of what', cell: (x) => <Of x={x} columns={d.data.columns} />, className: 'dim' },
            ]}
          />
          {d.data.more ? <p className="small faint mt-8">There are more than are listed.</p> : null}
        </>
      ) : d.error ? null : (
        <p className="faint">Comparing</p>
      )}
    </>
  );
}

/** What changed of an object: a column from what to what. */
function Of({ x, columns }: { x: Difference; columns: string[] }) {
  const list = (x.columns ?? []).filter((c) => c !== 'version' && c !== 'etag' && c !== 'crc64');
  return (
    <>
      {list.slice(0, 3).map((c) => (
        <div key={c} className="small cut max-w-420">
          {c}: {visible(x.was?.[columns.indexOf(c)] ?? '') || 'none'} →{' '}
          {visible(x.is?.[columns.indexOf(c)] ?? '') || 'none'}
        </div>
      ))}
      {(x.columns?.length ?? 0) > list.slice(0, 3).length ? (
        <span className="small faint">and {x.columns!.filter((c) => !list.slice(0, 3).includes(c)).join(', ')}</span>
      ) : null}
    </>
  );
}
