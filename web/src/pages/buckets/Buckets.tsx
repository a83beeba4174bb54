import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import type { Schemas } from '../../api/client';
import { useAllBuckets, unreadable } from '../../data/queries';
import { useAdministers } from '../../data/session';
import { Size, Trouble, When } from '../../parts/Bits';
import { State, versioningShape } from '../../parts/Marks';
import { bucketPage, count, size, things } from '../../parts/format';
import { CreateBucket } from './CreateBucket';

type Row = Schemas['BucketInfo'];

const columns: { id: string; name: string; num?: boolean; value: (b: Row) => string | number }[] = [
  { id: 'name', name: 'Name', value: (b) => b.name },
  { id: 'owner', name: 'Owner', value: (b) => b.account },
  { id: 'region', name: 'Region', value: (b) => b.region },
  { id: 'open', name: 'Open to', value: (b) => (b.open ? 'a' : b.shared?.length ? 'b' : 'c') },
  { id: 'objects', name: 'Objects', num: true, value: (b) => b.usage.objects },
  { id: 'size', name: 'Size', num: true, value: (b) => b.usage.bytes },
  { id: 'previous', name: 'Previous', num: true, value: (b) => b.usage.previousBytes },
  { id: 'quota', name: 'Quota', value: (b) => (b.quota ? b.usage.bytes / b.quota : -1) },
  { id: 'versioning', name: 'Versioning', value: (b) => b.versioning },
  { id: 'created', name: 'Created', value: (b) => b.created },
];

export default function Buckets() {
  const [query, setQuery] = useSearchParams();
  const [create, setCreate] = useState(false);
  const list = useAllBuckets();
  const administers = useAdministers();
  const filter = query.get('name') ?? '';
  const [by = 'name', down] = (query.get('sort') ?? 'name').split('-');
  const set = (name: string, value: string) =>
    setQuery(
      (q) => {
        if (value) q.set(name, value);
        else q.delete(name);
        return q;
      },
      { replace: true },
    );
  if (unreadable(list)) return <Trouble error={list.error} />;
  const all = list.data ?? [];
  const several = all.some((b) => b.console);
  const shown = columns.filter((c) => c.id !== 'region' || several);
  const column = shown.find((c) => c.id === by) ?? columns[0]!;
  const rows = all
    .filter((b) => b.name.includes(filter))
    .sort((a, b) => {
      const [x, y] = [column.value(a), column.value(b)];
      return (x < y ? -1 : x > y ? 1 : 0) * (down ? -1 : 1);
    });
  const bytes = all.reduce((n, b) => n + b.usage.bytes, 0);
  const previous = all.reduce((n, b) => n + b.usage.previousBytes, 0);
  const objects = all.reduce((n, b) => n + b.usage.objects, 0);
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Buckets</h1>
          <p className="meta">
            <span>{things(all.length, 'bucket')}</span>
            <span>{things(objects, 'object')}</span>
            <span>{size(bytes)}</span>
            {previous ? <span>{size(previous)} in previous versions</span> : null}
          </p>
        </div>
        <div className="row">
          <span className="field w-200">
            <input
              value={filter}
              onChange={(e) => set('name', e.target.value)}
              placeholder="Part of a name"
              aria-label="Filter by name"
            />
          </span>
          {administers ? (
            <button type="button" className="btn main" onClick={() => setCreate(true)}>
              Create a bucket
            </button>
          ) : null}
        </div>
      </div>
      {list.data && all.length === 0 ? (
        <div className="empty">
          <b className="strong">There are no buckets yet.</b>
          <p className="dim">
            A bucket holds objects under one name, with its own settings and quota. Make one, then drop files on it or
            point a client at it.
          </p>
        </div>
      ) : (
        <table>
          <thead>
            <tr>
              {shown.map((c) => (
                <th
                  key={c.id}
                  className={c.num ? 'num' : ''}
                  aria-sort={c.id === column.id ? (down ? 'descending' : 'ascending') : undefined}
                >
                  <button
                    type="button"
                    className={c.id === column.id ? 'sort' : ''}
                    onClick={() => set('sort', c.id === column.id && !down ? `${c.id}-down` : c.id)}
                  >
                    {c.name} {c.id === column.id ? (down ? '↓' : '↑') : ''}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((b) => (
              <tr key={`${b.region}/${b.name}`}>
                <td>
                  {b.console ? (
                    <a
                      className="key strong"
                      href={b.console + bucketPage(b.name)}
                      title={`In the console of ${b.region}`}
                    >
                      {b.name}
                    </a>
                  ) : (
                    <Link className="key strong" to={bucketPage(b.name, b.places?.[0] ?? '')}>
                      {b.name}
                    </Link>
                  )}
                </td>
                <td className="dim">{b.account}</td>
                {several ? <td className="dim">{b.region}</td> : null}
                <td>
                  {b.open ? (
                    <State kind="warn">anyone</State>
                  ) : b.shared?.length ? (
                    <Link to={`/access/grants?bucket=${b.name}`}>{things(b.shared.length, 'grant')}</Link>
                  ) : null}
                </td>
                <td className="num">
                  {b.partly ? (
                    <span className="faint" title={b.places?.join(', ')}>
                      in part
                    </span>
                  ) : (
                    count(b.usage.objects)
                  )}
                </td>
                <td className="num">{b.partly ? null : <Size bytes={b.usage.bytes} />}</td>
                <td className="num">{b.usage.previous ? <Size bytes={b.usage.previousBytes} /> : null}</td>
                <td>{b.console ? null : <Quota b={b} />}</td>
                <td>{b.versioning ? <State kind={versioningShape(b.versioning)}>{b.versioning}</State> : null}</td>
                <td className="dim">
                  <When at={b.created} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {create ? <CreateBucket onClose={() => setCreate(false)} /> : null}
    </>
  );
}

function Quota({ b }: { b: Row }) {
  if (b.partly) return null;
  if (!b.quota) return <span className="faint">none</span>;
  const share = (100 * (b.usage.bytes + b.usage.previousBytes)) / b.quota;
  const text = `${size(b.quota)}, ${share.toFixed(0)} % used`;
  return share >= 90 ? (
    <State kind={share >= 100 ? 'wrong' : 'warn'}>{text}</State>
  ) : (
    <span className="dim">{text}</span>
  );
}
