import { Link } from 'react-router';

import type { Schemas } from '../../api/client';
import { useBucketUsage, usePrefixUsage } from '../../data/queries';
import { Section, Size, Trouble } from '../../parts/Bits';
import { Growth } from '../../parts/Growth';
import { bucketPage, count, visible } from '../../parts/format';
import { PrefixMap } from './PrefixMap';

/** What a bucket holds, over time and by prefix. */
export function Usage({ b }: { b: Schemas['BucketInfo'] }) {
  const bucket = b.name;
  const u = useBucketUsage(bucket);
  const p = usePrefixUsage(bucket, '');
  if (u.error) return <Trouble error={u.error} />;
  return (
    <div className="grid gap-20 max-w-980">
      <Section title="Usage over a year" aside="current and previous versions, by day (UTC)">
        <div className="pt-8">{u.data ? <Growth points={u.data.points} width={980} height={250} /> : null}</div>
      </Section>
      <PrefixMap bucket={bucket} />
      <Section title="By prefix" aside="those with the most in previous versions first">
        {p.error ? <Trouble error={p.error} /> : null}
        {p.data?.length ? (
          <table className="tight">
            <thead>
              <tr>
                <th>Prefix</th>
                <th className="num">Objects</th>
                <th className="num">Current</th>
                <th className="num">Previous versions</th>
                <th className="num">Their size</th>
                <th className="num">Share</th>
                <th className="num">Delete markers</th>
              </tr>
            </thead>
            <tbody>
              {p.data.map((x) => (
                <tr key={x.prefix}>
                  <td>
                    <Link className="key" to={bucketPage(bucket, x.prefix)}>
                      {visible(x.prefix)}
                    </Link>
                  </td>
                  <td className="num">{count(x.objects)}</td>
                  <td className="num">
                    <Size bytes={x.bytes} />
                  </td>
                  <td className="num">{count(x.previous)}</td>
                  <td className="num">
                    <Size bytes={x.previousBytes} />
                  </td>
                  <td className="num dim">
                    {x.bytes + x.previousBytes
                      ? `${((100 * x.previousBytes) / (x.bytes + x.previousBytes)).toFixed(0)} %`
                      : ''}
                  </td>
                  <td className="num">{count(x.markers)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        ) : p.data ? (
          <p className="empty faint">No key here has a slash: there are no prefixes.</p>
        ) : null}
      </Section>
    </div>
  );
}
