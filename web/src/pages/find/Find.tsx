import { type FormEvent, useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import { Problem, api, ask } from '../../api/client';
import { type Found, useFound, useFoundCount, useSaved, useWords } from '../../data/find';
import { Complaint, Size, When } from '../../parts/Bits';
import { KeepIt, Kept } from '../../parts/Kept';
import { type Column, Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { Switch } from '../../parts/Switch';
import { count, objectPage, things, visible } from '../../parts/format';
import { ActOnFound } from './Act';
import { suggest } from './suggest';

const tries = [
  'size over 20 MiB',
  'age over 1 year and type begins with image',
  'lacks field collector',
  'replication is failed or replication is pending',
];

/** Objects found by what they are, over all buckets that one may list and read. */
export default function Find() {
  const [query, setQuery] = useSearchParams();
  const asked = query.get('q') ?? '';
  const versions = query.get('versions') === 'yes';
  const [text, setText] = useState(asked);
  const [counting, setCounting] = useState(false);
  const [asking, setAsking] = useState<'act' | 'keep' | null>(null);
  const words = useWords();
  const kept = useSaved();
  const found = useFound(asked, versions);
  const sum = useFoundCount(asked, versions, counting);
  const go = (q: string, all = versions) => {
    setText(q);
    setCounting(false);
    setQuery(all ? { q, versions: 'yes' } : { q });
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (text.trim()) go(text.trim());
  };
  const rows = found.data?.pages.flatMap((p) => p.objects) ?? [];
  const first = found.data?.pages[0];
  const looked = found.data?.pages.reduce((n, p) => n + p.looked, 0) ?? 0;
  return (
    <>
      <div className="pagehead">
        <h1>Find</h1>
        <Switch on={versions} onChange={(on) => go(text.trim(), on)}>
          previous versions too
        </Switch>
      </div>
      <form className="row mb-8" onSubmit={submit} role="search">
        <span className="field flex-1">
          <input
            className="key"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="size over 20 MiB and not tag checked is yes"
            aria-label="What to find"
            name="expression"
            autoComplete="off"
            spellCheck={false}
            autoFocus
          />
        </span>
        <button type="submit" className="btn main" disabled={!text.trim() || found.isFetching}>
          Find
        </button>
      </form>
      <Suggestions text={text} words={words} onChoose={setText} />
      {found.error ? <Mistake text={asked} error={found.error} /> : null}
      {asked && first && !found.error ? (
        <>
          <p className="row gap-18 mb-8">
            <span>
              {things(rows.length, 'object')}
              {found.hasNextPage ? ' so far' : ''}
            </span>
            <span>
              {first.index ? 'by index, ' : ''}looked at {things(looked, 'version')}, as of now
            </span>
            {sum.data ? (
              <span>
                {count(sum.data.objects)} in all, <Size bytes={sum.data.bytes} />
              </span>
            ) : (
              <button type="button" className="btn low" disabled={sum.isFetching} onClick={() => setCounting(true)}>
                Count all
              </button>
            )}
            {rows.length && !versions ? (
              <button type="button" className="btn low" onClick={() => setAsking('act')}>
                Do something with these
              </button>
            ) : null}
            <button type="button" className="btn low" onClick={() => setAsking('keep')}>
              Keep it
            </button>
          </p>
          {sum.error ? <Complaint error={sum.error} /> : null}
          {first.left?.length ? (
            <p className="small dim mb-8">
              Left out, since it is not told of buckets of others: {first.left.map(visible).join(', ')}
            </p>
          ) : null}
          <Listing
            rows={rows}
            id={(o) => `${o.bucket}/${o.key} ${o.version}`}
            list={found}
            empty={<p className="empty faint">Nothing matches.</p>}
            columns={columns(asked, versions)}
          />
        </>
      ) : null}
      {asked ? null : (
        <>
          <Kept
            things={kept.data?.map((f) => ({ ...f, says: f.expression }))}
            onChoose={(f) => go(f.expression, !!f.versions)}
            forget={(name) => ask(api.DELETE('/api/v1/find/saved/{name}', { params: { path: { name } } }))}
          />
          <Tries onChoose={(q) => go(q)} />
        </>
      )}
      {asking === 'act' ? (
        <ActOnFound
          where={asked}
          buckets={[...new Set(rows.map((o) => o.bucket))]}
          onClose={() => {
            setAsking(null);
            void found.refetch();
          }}
        />
      ) : null}
      {asking === 'keep' ? (
        <KeepIt
          what="question"
          says={asked}
          save={(name) =>
            ask(
              api.PUT('/api/v1/find/saved/{name}', {
                params: { path: { name } },
                body: { expression: asked, versions },
              }),
            )
          }
          onClose={() => setAsking(null)}
        />
      ) : null}
    </>
  );
}

/** The columns: what everything has, and the fields that are asked about. */
function columns(asked: string, versions: boolean): Column<Found>[] {
  const fields = [...asked.matchAll(/\bfield\s+(?:"([^"]+)"|([^\s(),"]+))/gi)].map((m) =>
    (m[1] ?? m[2]!).toLowerCase(),
  );
  return [
    {
      head: 'Object',
      className: 'key cut max-w-420',
      title: (o) => `${o.bucket}/${o.key}`,
      cell: (o) => (
        <Link to={objectPage(o.bucket, o.key, o.current ? '' : o.version)}>{visible(`${o.bucket}/${o.key}`)}</Link>
      ),
    },
    ...(versions
      ? [{ head: 'Version', cell: (o: Found) => (o.current ? 'current' : <State kind="past">previous</State>) }]
      : []),
    ...[...new Set(fields)].slice(0, 3).map((f) => ({
      head: f,
      cell: (o: Found) => visible(o.metadata?.[f] ?? ''),
      className: 'cut max-w-260',
    })),
    { head: 'Type', cell: (o) => o.contentType, className: 'dim cut max-w-150' },
    { head: 'Tier', cell: (o) => o.tier, className: 'dim' },
    { head: 'Size', figure: true, cell: (o) => <Size bytes={o.size} /> },
    { head: 'Changed', cell: (o) => <When at={o.created} />, className: 'dim' },
  ];
}

/** What may come next while one types. */
function Suggestions({
  text,
  words,
  onChoose,
}: {
  text: string;
  words: { name: string; values: string[] }[];
  onChoose: (text: string) => void;
}) {
  const next = suggest(text, words);
  return (
    <div className="row flex-wrap gap-6 mb-14 min-h-28" aria-label="What may come next">
      {next.map((s) => (
        <button key={s.word} type="button" className="btn low key" onClick={() => onChoose(s.text)}>
          {visible(s.word)}
        </button>
      ))}
    </div>
  );
}

/** What is wrong with an expression, with where it is. */
function Mistake({ text, error }: { text: string; error: unknown }) {
  const at = error instanceof Problem ? error.position : undefined;
  return (
    <>
      {at === undefined ? null : (
        <pre className="block mb-8">
          {text.slice(0, at)}
          <mark>{text.slice(at) || ' '}</mark>
        </pre>
      )}
      <Complaint error={error} />
    </>
  );
}

const Tries = ({ onChoose }: { onChoose: (q: string) => void }) => (
  <section>
    <p className="dim max-w-720 mb-8">
      Tests are joined by and, or, not and brackets. Fields are key, bucket, size, age, changed, type, tier, writer,
      sealed, replication, and your own: field NAME for metadata, tag NAME for tags.
    </p>
    <ul className="grid gap-6">
      {tries.map((q) => (
        <li key={q}>
          <button type="button" className="btn low key" onClick={() => onChoose(q)}>
            {q}
          </button>
        </li>
      ))}
    </ul>
  </section>
);
