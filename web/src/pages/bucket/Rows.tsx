import type { UseInfiniteQueryResult } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { Checkbox } from 'radix-ui';
import { type KeyboardEvent, useMemo, useRef, useState } from 'react';
import { useNavigate } from 'react-router';

import type { Schemas } from '../../api/client';
import { bucketPage, count, objectPage, things } from '../../parts/format';
import { Select, same } from '../../parts/Select';
import { useMore } from '../../parts/useMore';
import { Line, type Row, rowHeight } from './Line';

type Listing = UseInfiniteQueryResult<{ pages: Schemas['ObjectPage'][] }>;

interface Props {
  bucket: string;
  folder: string;
  listing: Listing;
  chosen: ReadonlySet<string>;
  onChoose: (c: ReadonlySet<string>) => void;
  onRemove: () => void;
  search: string;
  asOf: string;
}

/** The rows of a listing: pages come as one scrolls, only what is seen is drawn. */
export function Rows({ bucket, folder, listing, chosen, onChoose, onRemove, search, asOf }: Props) {
  const navigate = useNavigate();
  const pages = useMemo(() => listing.data?.pages ?? [], [listing.data]);
  const rows = useMemo<Row[]>(() => {
    const all: Row[] = pages.flatMap((p) => [
      ...p.prefixes.map((name) => ({ id: 'p' + name, name, beneath: p.usage?.[name] })),
      ...p.objects.map((object) => ({ id: 'k' + object.key, name: object.key, object })),
    ]);
    return all.sort((a, b) => Number(!!a.object) - Number(!!b.object)); // prefixes first; both stay in the order of keys
  }, [pages]);
  const fields = useMemo(
    () => [...new Set(pages.flatMap((p) => p.objects.flatMap((o) => Object.keys(o.metadata ?? {}))))].sort(),
    [pages],
  );
  const [wanted, setWanted] = useState(() => localStorage.getItem(`spindle-field-${bucket}`) ?? '');
  const field = fields.includes(wanted) ? wanted : (fields.find((f) => f === 'taxon') ?? fields[0] ?? '');
  const [lit, setLit] = useState(-1);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 20,
  });
  const items = virtual.getVirtualItems();
  const lastSeen = items[items.length - 1]?.index ?? 0;
  const { hasNextPage } = listing;
  useMore(listing, lastSeen >= rows.length - 40);

  const toggle = (id: string) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    onChoose(next);
  };
  const open = (r: Row) =>
    void navigate(r.object ? objectPage(bucket, r.name, asOf && r.object.version) : bucketPage(bucket, r.name, asOf));
  const press = (e: KeyboardEvent) => {
    const r = rows[lit];
    if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
      const to = Math.max(0, Math.min(rows.length - 1, lit + (e.key === 'ArrowDown' ? 1 : -1)));
      setLit(to);
      virtual.scrollToIndex(to);
    } else if (e.key === ' ' && r) toggle(r.id);
    else if (e.key === 'Enter' && r && e.target === e.currentTarget) open(r);
    else if (e.key === 'Delete' && chosen.size) onRemove();
    else return;
    e.preventDefault();
  };

  if (!rows.length && !listing.isFetching)
    return (
      <div className="empty">
        <b className="strong">
          {search
            ? `No key here begins with "${search}".`
            : asOf
              ? 'Nothing was here then.'
              : folder
                ? 'Nothing lies beneath this prefix.'
                : 'The bucket is empty.'}
        </b>
        <p className="dim">
          {search
            ? 'Prefixes are literal: letters, case and every sign count.'
            : asOf
              ? 'Choose another moment, or go back to now.'
              : 'Drop files or folders here, use Upload, or put them from the command line:'}
        </p>
        {search || asOf ? null : (
          <pre className="block mt-8">
            spindle object put ./FOLDER {bucket}/{folder}
          </pre>
        )}
      </div>
    );
  const all = rows.length > 0 && rows.every((r) => chosen.has(r.id));
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  return (
    <>
      <div
        className="max-h-[calc(100vh-330px)] min-h-220 overflow-auto"
        ref={box}
        tabIndex={0}
        onKeyDown={press}
        aria-label="Objects"
        role="group"
      >
        <table className="table-fixed">
          <colgroup>
            <col className="w-26" />
            <col />
            <col className="w-96" />
            <col className="w-124" />
            <col className="w-150" />
            <col className="w-170" />
          </colgroup>
          <thead className="sticky top-0 bg-cloth-raised z-1">
            <tr>
              <th>
                <Checkbox.Root
                  className="check"
                  disabled={!!asOf}
                  checked={all ? true : chosen.size ? 'indeterminate' : false}
                  onCheckedChange={() => onChoose(all ? new Set() : new Set(rows.map((r) => r.id)))}
                  aria-label="Choose all that are shown"
                />
              </th>
              <th>
                <span className="sort">Name ↑</span>
              </th>
              <th className="num">Size</th>
              <th>Changed</th>
              <th>Written by</th>
              <th>
                {fields.length ? (
                  <Select
                    value={field}
                    label="Metadata field to show"
                    className="sel faint inline-flex items-center gap-6 max-w-150 font-key"
                    options={same(fields)}
                    onChange={(v) => {
                      setWanted(v);
                      localStorage.setItem(`spindle-field-${bucket}`, v);
                    }}
                  />
                ) : null}
              </th>
            </tr>
          </thead>
          <tbody>
            {before > 0 ? <tr style={{ height: before }} /> : null}
            {items.map((item) => {
              const r = rows[item.index]!;
              return (
                <Line
                  key={r.id}
                  r={r}
                  bucket={bucket}
                  asOf={asOf}
                  folder={folder}
                  field={field}
                  chosen={chosen.has(r.id)}
                  lit={item.index === lit}
                  onToggle={() => {
                    toggle(r.id);
                    setLit(item.index);
                  }}
                />
              );
            })}
            {after > 0 ? <tr style={{ height: after }} /> : null}
          </tbody>
        </table>
      </div>
      <p className="small faint py-8 px-6">
        {hasNextPage
          ? `${count(rows.length)} read so far, more below as you scroll.`
          : things(rows.length, 'entry', 'entries') + '.'}{' '}
        Hover for exact bytes and UTC.
      </p>
    </>
  );
}
