import { Checkbox } from 'radix-ui';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import { useUnfinished } from '../../data/queries';
import { Size, Trouble, When } from '../../parts/Bits';
import { State } from '../../parts/Marks';
import { ago, bucketPage, count, middle, size, things, visible } from '../../parts/format';
import { Abandon, Row } from './Abandon';

const columns: { id: string; name: string; num?: boolean; value: (u: Row) => string | number }[] = [
  { id: 'key', name: 'Address', value: (u) => `${u.bucket}/${u.key}` },
  { id: 'held', name: 'Held', num: true, value: (u) => u.bytes },
  { id: 'parts', name: 'Parts', num: true, value: (u) => u.parts },
  { id: 'age', name: 'Age', num: true, value: (u) => -Date.parse(u.started) },
  { id: 'last', name: 'Last part', value: (u) => u.last ?? '' },
  { id: 'by', name: 'Started by', value: (u) => u.by },
];

/** All unfinished multipart uploads: what they hold, how old they are, and away with them. */
export default function Uploads() {
  const [query, setQuery] = useSearchParams();
  const list = useUnfinished();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [asking, setAsking] = useState(false);
  const [by = 'age', down] = (query.get('sort') ?? 'age-down').split('-');
  const column = columns.find((c) => c.id === by) ?? columns[3]!;
  const rows = (list.data?.pages.flatMap((p) => p.uploads) ?? []).sort((a, b) => {
    const [x, y] = [column.value(a), column.value(b)];
    return (x < y ? -1 : x > y ? 1 : 0) * (down ? -1 : 1);
  });
  const all = list.data?.pages[0]?.all;
  const picked = rows.filter((u) => chosen.has(u.id));
  const toggle = (id: string) => {
    const n = new Set(chosen);
    if (!n.delete(id)) n.add(id);
    setChosen(n);
  };
  const old = rows.filter((u) => Date.now() - Date.parse(u.started) > 7 * 864e5);
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Unfinished uploads</h1>
          <p className="meta">
            {all ? (
              <>
                <span>{things(all.uploads, 'upload')}</span>
                <span>{size(all.bytes)} held that no listing shows</span>
                {all.oldest ? <span>oldest {ago(new Date(all.oldest))} old</span> : null}
              </>
            ) : null}
          </p>
        </div>
        <div className="row">
          {old.length ? (
            <button type="button" className="btn" onClick={() => setChosen(new Set(old.map((u) => u.id)))}>
              Choose those older than 7 days
            </button>
          ) : null}
          <button type="button" className="btn harm" disabled={!picked.length} onClick={() => setAsking(true)}>
            Abandon {picked.length ? `${count(picked.length)}, ${size(picked.reduce((n, u) => n + u.bytes, 0))}` : ''}
          </button>
        </div>
      </div>
      {list.error ? <Trouble error={list.error} /> : null}
      {list.data && !rows.length ? (
        <div className="empty">
          <b className="strong">There are no unfinished uploads.</b>
          <p className="dim">
            Large files are sent in parts. An upload that was begun and neither completed nor abandoned shows here, with
            what its parts hold. A bucket can abandon them by itself after some days: see its settings.
          </p>
        </div>
      ) : (
        <table>
          <thead>
            <tr>
              <th className="w-26">
                <Checkbox.Root
                  className="check"
                  checked={
                    rows.length > 0 && picked.length === rows.length ? true : picked.length ? 'indeterminate' : false
                  }
                  onCheckedChange={() =>
                    setChosen(picked.length === rows.length ? new Set() : new Set(rows.map((u) => u.id)))
                  }
                  aria-label="Choose all"
                />
              </th>
              {columns.map((c) => (
                <th
                  key={c.id}
                  className={c.num ? 'num' : ''}
                  aria-sort={c.id === column.id ? (down ? 'descending' : 'ascending') : undefined}
                >
                  <button
                    type="button"
                    className={c.id === column.id ? 'sort' : ''}
                    onClick={() =>
                      setQuery({ sort: c.id === column.id && !down ? `${c.id}-down` : c.id }, { replace: true })
                    }
                  >
                    {c.name} {c.id === column.id ? (down ? '↓' : '↑') : ''}
                  </button>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((u) => {
              const days = (Date.now() - Date.parse(u.started)) / 864e5;
              return (
                <tr key={u.id} className={chosen.has(u.id) ? 'chosen' : ''}>
                  <td>
                    <Checkbox.Root
                      className="check"
                      checked={chosen.has(u.id)}
                      onCheckedChange={() => toggle(u.id)}
                      aria-label={`Choose ${visible(u.key)}`}
                    />
                  </td>
                  <td title={visible(`${u.bucket}/${u.key}`)}>
                    <Link className="plain key" to={bucketPage(u.bucket, u.key.slice(0, u.key.lastIndexOf('/') + 1))}>
                      {middle(visible(`${u.bucket}/${u.key}`), 56)}
                    </Link>
                  </td>
                  <td className="num">
                    <Size bytes={u.bytes} />
                  </td>
                  <td className="num">{count(u.parts)}</td>
                  <td className="num">
                    {days > 7 ? (
                      <State kind="warn">{ago(new Date(u.started))}</State>
                    ) : (
                      <span className="dim">{ago(new Date(u.started))}</span>
                    )}
                  </td>
                  <td className="dim">{u.last ? <When at={u.last} /> : 'none came'}</td>
                  <td className="key">{u.by}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      )}
      {list.hasNextPage ? (
        <button type="button" className="btn mt-8" onClick={() => void list.fetchNextPage()}>
          Read more
        </button>
      ) : null}
      {asking ? (
        <Abandon
          uploads={picked}
          onClose={() => setAsking(false)}
          onDone={() => {
            setAsking(false);
            setChosen(new Set());
          }}
        />
      ) : null}
    </>
  );
}
