import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef, useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useBuckets, useJournal, useSavedFilters } from '../../data/queries';
import { Trouble } from '../../parts/Bits';
import { KeepIt, Kept } from '../../parts/Kept';
import { count, time } from '../../parts/format';
import { Filters, useFilters } from '../../parts/Filters';
import { Select, same, sinces } from '../../parts/Select';
import { Typed } from '../../parts/Typed';
import { useMore } from '../../parts/useMore';
import { Entry, kinds, rowHeight } from './Entry';

/** Every change of every object and bucket, latest first; the filters stand in the address. */
export default function Journal() {
  const { filter, set, fill, some, clear } = useFilters('bucket', 'prefix', 'kind', 'who', 'since');
  const list = useJournal(filter);
  const buckets = useBuckets();
  const kept = useSavedFilters();
  const [keeping, setKeeping] = useState(false);
  const rows = list.data?.pages.flatMap((p) => p.entries) ?? [];
  const upTo = list.data?.pages[0]?.completeUpTo;
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => rowHeight,
    overscan: 20,
  });
  const items = virtual.getVirtualItems();
  const seen = items[items.length - 1]?.index ?? 0;
  const { hasNextPage } = list;
  useMore(list, seen >= rows.length - 30);
  const before = items[0]?.start ?? 0;
  const after = virtual.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Journal</h1>
          <p className="meta">
            <span>Every change of every object and bucket, in order</span>
            <Link to="/journal/posts">Posted elsewhere</Link>
            {upTo ? <span>complete up to {time(new Date(upTo))}</span> : null}
          </p>
        </div>
        {some ? (
          <button type="button" className="btn" onClick={() => setKeeping(true)}>
            Keep the filter
          </button>
        ) : null}
      </div>
      {some ? null : (
        <Kept
          things={kept.data?.map((f) => ({ ...f, says: filterWords(f) }))}
          onChoose={(f) =>
            fill({
              bucket: f.bucket ?? '',
              prefix: f.prefix ?? '',
              kind: (f.kinds ?? []).join(','),
              who: f.who ?? '',
              since: '',
            })
          }
          forget={(name) => ask(api.DELETE('/api/v1/journal/saved/{name}', { params: { path: { name } } }))}
        />
      )}
      {keeping ? (
        <KeepIt
          what="filter"
          says={filterWords(bodyOf(filter))}
          save={(name) =>
            ask(api.PUT('/api/v1/journal/saved/{name}', { params: { path: { name } }, body: bodyOf(filter) }))
          }
          onClose={() => setKeeping(false)}
        />
      ) : null}
      <Filters some={some} onClear={clear}>
        <Select
          className="field sel w-150"
          value={filter.bucket}
          onChange={(v) => set('bucket', v)}
          label="Bucket"
          options={[['', 'all buckets'] as const, ...same((buckets.data ?? []).map((b) => b.name))]}
        />
        <Typed
          value={filter.prefix}
          onChange={(v) => set('prefix', v)}
          label="Keys that begin with"
          placeholder="key begins with"
          width={210}
          mono
        />
        <Select
          className="field sel w-150"
          value={filter.kind}
          onChange={(v) => set('kind', v)}
          label="Kind of change"
          options={[
            ['', 'all kinds'],
            ...same(kinds.map(([k]) => k)),
            ...same(filter.kind.includes(',') ? [filter.kind] : []),
          ]}
        />
        <Typed
          value={filter.who}
          onChange={(v) => set('who', v)}
          label="By access key"
          placeholder="by access key"
          width={160}
        />
        <Select
          className="field sel w-130"
          value={filter.since}
          onChange={(v) => set('since', v)}
          label="Since"
          options={sinces}
        />
      </Filters>
      {list.error ? <Trouble error={list.error} /> : null}
      {list.data && !rows.length && !hasNextPage ? (
        <div className="empty">
          <b className="strong">No changes match.</b>
          <p className="dim">
            {some ? 'Loosen a filter.' : 'What is written, changed and removed shows here, the moment it happens.'}
          </p>
        </div>
      ) : (
        <>
          <div
            className="max-h-[calc(100vh-250px)] min-h-220 overflow-auto"
            ref={box}
            tabIndex={0}
            role="group"
            aria-label="Changes"
          >
            <table className="table-fixed">
              <colgroup>
                <col className="w-118" />
                <col className="w-130" />
                <col />
                <col className="w-180" />
                <col className="w-86" />
                <col className="w-134" />
                <col className="w-84" />
              </colgroup>
              <thead className="sticky top-0 bg-cloth-raised z-1">
                <tr>
                  <th>When</th>
                  <th>What</th>
                  <th>Address</th>
                  <th />
                  <th className="num">Size</th>
                  <th>By</th>
                  <th>From</th>
                </tr>
              </thead>
              <tbody>
                {before > 0 ? <tr style={{ height: before }} /> : null}
                {items.map((i) => {
                  const e = rows[i.index]!;
                  return <Entry key={e.position} e={e} />;
                })}
                {after > 0 ? <tr style={{ height: after }} /> : null}
              </tbody>
            </table>
          </div>
          <p className="small faint py-8 px-6">
            {hasNextPage
              ? `${count(rows.length)} read so far, more below as you scroll.`
              : `${count(rows.length)} entries.`}
          </p>
        </>
      )}
    </>
  );
}

type Filter = Schemas['JournalFilter'];

const bodyOf = (f: { bucket: string; prefix: string; kind: string; who: string }): Filter => ({
  bucket: f.bucket,
  prefix: f.prefix,
  who: f.who,
  kinds: f.kind ? f.kind.split(',') : [],
});

const filterWords = (f: Filter) =>
  [f.kinds?.join(' or '), f.bucket && `in ${f.bucket}`, f.prefix && `beneath ${f.prefix}`, f.who && `by ${f.who}`]
    .filter(Boolean)
    .join(', ') || 'all';
