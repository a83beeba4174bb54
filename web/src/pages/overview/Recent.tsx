import { Link } from 'react-router';

import { type Schemas } from '../../api/client';
import { Size, When } from '../../parts/Bits';
import { bucketPage, count, middle, objectPage, visible } from '../../parts/format';

export function Changed({ list }: { list: Schemas['ChangedBucket'][] }) {
  if (!list.length) return <p className="empty faint">Nothing changed in this span.</p>;
  const zero = (n: number) => (n ? count(n) : <span className="faint">0</span>);
  return (
    <table className="tight">
      <thead>
        <tr>
          <th>Bucket</th>
          <th className="num">written</th>
          <th className="num">removed</th>
          <th className="num">size</th>
        </tr>
      </thead>
      <tbody>
        {list.map((c) => (
          <tr key={c.bucket}>
            <td>
              <Link className="plain key" to={bucketPage(c.bucket)}>
                {c.bucket}
              </Link>
            </td>
            <td className="num">{zero(c.written)}</td>
            <td className="num">{zero(c.removed)}</td>
            <td className="num">
              <Size bytes={c.bytes} sign />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function Recent({ entries }: { entries: Schemas['JournalLine'][] }) {
  if (!entries.length) return <p className="empty faint">No change has been made yet.</p>;
  return (
    <table className="tight table-fixed">
      <colgroup>
        <col className="w-72" />
        <col className="w-112" />
        <col />
        <col className="w-82" />
        <col className="w-136" />
      </colgroup>
      <thead>
        <tr>
          <th>When</th>
          <th>What</th>
          <th>Object or bucket</th>
          <th className="num">Size</th>
          <th>Key that did it</th>
        </tr>
      </thead>
      <tbody>
        {entries.map((e) => (
          <tr key={e.position}>
            <td className="dim">
              <When at={e.at} />
            </td>
            <td>{e.kind}</td>
            <td className="key cut" title={visible(`${e.bucket}/${e.key ?? ''}`)}>
              {e.key ? (
                <Link className="plain" to={e.kind === 'removed' ? bucketPage(e.bucket) : objectPage(e.bucket, e.key)}>
                  {middle(visible(`${e.bucket}/${e.key}`), 31)}
                </Link>
              ) : (
                <Link className="plain" to={bucketPage(e.bucket)}>
                  {e.bucket}
                </Link>
              )}
            </td>
            <td className="num">{e.key ? <Size bytes={e.size} /> : null}</td>
            <td className="cut dim" title={e.source ? `from ${e.source}` : undefined}>
              {e.who}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
