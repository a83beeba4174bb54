import { useEffect, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';

import { Problem, api, ask, bodyAddress } from '../../api/client';
import { useBucket, useChange, useHistory, useObject } from '../../data/queries';
import { Complaint, Section, Trouble, When } from '../../parts/Bits';
import { State, icons } from '../../parts/Marks';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { useToast } from '../../parts/Toasts';
import { bucketPage, objectPage, visible } from '../../parts/format';
import { Band } from './Band';
import { Compare } from './Compare';
import { Copies } from './Copies';
import { Deleted } from './Deleted';
import { Fields } from './Fields';
import { Legend, Sum } from './Legend';
import { LinkDialog } from './LinkDialog';
import { MoveDialog } from './MoveDialog';
import { RemoveVersion } from './RemoveVersion';
import { Coming } from './Coming';
import { Digests, ObjectFacts } from './ObjectFacts';
import { Strand } from './Strand';

export default function ObjectPage() {
  const { bucket = '' } = useParams();
  const [query, setQuery] = useSearchParams();
  const key = query.get('key') ?? '';
  const version = query.get('version') ?? '';
  const other = query.get('with') ?? '';
  const navigate = useNavigate();
  const b = useBucket(bucket);
  const open = b.data?.shared?.some((s) => s.to === 'anyone' && key.startsWith(s.prefix ?? ''));
  const toast = useToast();
  const [asking, setAsking] = useState<'remove' | 'version' | 'copy' | 'rename' | 'link' | null>(null);
  const history = useHistory(bucket, key);
  const chapter = history.data?.[0];
  const versions = chapter?.versions ?? [];
  const latest = versions[0];
  // A deleted object has no current version to read: its delete marker is what one looks at first.
  const last = latest?.marker ? versions.find((v) => !v.marker)?.version : undefined;
  const chosenMarker = versions.some((v) => v.version === version && v.marker);
  const o = useObject(bucket, key, chosenMarker || !version ? (last ?? (chosenMarker ? '' : version)) : version);
  const folder = key.slice(0, key.lastIndexOf('/') + 1);
  const code = o.error instanceof Problem ? o.error.code : latest?.marker ? 'key-deleted' : '';
  const isPrefix = code === 'key-is-prefix';
  useEffect(() => {
    if (isPrefix) void navigate(bucketPage(bucket, key.replace(/\/?$/, '/')), { replace: true });
  }, [isPrefix, bucket, key, navigate]);
  const restore = useChange((v: string) =>
    ask(api.POST('/api/v1/buckets/{bucket}/restore', { params: { path: { bucket } }, body: { key, version: v } })),
  );
  if (isPrefix) return null;
  const set = (name: string, value: string) =>
    setQuery(
      (q) => {
        if (value) q.set(name, value);
        else q.delete(name);
        if (name === 'version') q.delete('with');
        return q;
      },
      { replace: true },
    );
  const shown = versions.find((v) => v.version === (version || latest?.version));
  const past = (version !== '' && shown !== undefined && !shown.latest) || !!latest?.marker;
  const read = o.data?.version === 'null' ? 'null' : (o.data?.version ?? '');
  const compared = versions.find((v) => v.version === other);
  const bringBack = (v: string) =>
    restore.mutate(v, {
      onSuccess: (n) => {
        toast(`Restored: version ${n.version} is current`);
        set('version', '');
      },
    });
  const here = o.data && !o.data.marker;
  const may = (right: string) => o.data?.rights?.includes(right) ?? true;
  return (
    <>
      <nav className="key" aria-label="Where it lies">
        <Link to={bucketPage(bucket)}>{bucket}</Link> <span className="faint">/</span>{' '}
        {folder
          .split('/')
          .slice(0, -1)
          .map((p, i, all) => (
            <span key={i}>
              <Link to={bucketPage(bucket, all.slice(0, i + 1).join('/') + '/')}>{visible(p)}</Link>{' '}
              <span className="faint">/</span>{' '}
            </span>
          ))}
      </nav>
      <div className="pagehead">
        <div>
          <h1 className="exact wrap-any">{visible(key.slice(folder.length)) || '(empty name)'}</h1>
          {open ? <State kind="warn">anyone may read it, without a key</State> : null}
        </div>
        <div className="row">
          {here ? (
            <>
              <a className="btn main no-underline" href={bodyAddress(bucket, key, past ? read : '')} download>
                {icons.down} Download{past ? ' this version' : ''}
              </a>
              <button type="button" className="btn" onClick={() => setAsking('copy')}>
                Copy to
              </button>
            </>
          ) : null}
          {here && !past ? (
            <>
              {may('write') && may('remove') ? (
                <button type="button" className="btn" onClick={() => setAsking('rename')}>
                  Rename
                </button>
              ) : null}
              <button type="button" className="btn" onClick={() => setAsking('link')}>
                {icons.copy} Link
              </button>
              {may('remove') ? (
                <button type="button" className="btn harm" onClick={() => setAsking('remove')}>
                  Remove
                </button>
              ) : null}
            </>
          ) : null}
        </div>
      </div>
      {code === 'key-deleted' && latest ? <Deleted chapter={chapter!} onRestore={bringBack} /> : null}
      {o.error && code !== 'key-deleted' && !history.data ? <Trouble error={o.error} /> : null}
      {restore.error ? <Complaint error={restore.error} /> : null}
      {history.data && versions.length ? (
        <>
          <Section title="Strand" aside={<Sum versions={versions} more={!!chapter?.next} />} end={<Legend />}>
            <Strand
              chapters={history.data}
              chosen={shown?.version ?? ''}
              onChoose={(v) => set('version', v === latest?.version && !latest.marker ? '' : v)}
            />
          </Section>
          {shown ? (
            <Band
              v={shown}
              versions={versions}
              other={other}
              onCompare={(v) => set('with', v)}
              onRestore={() => bringBack(shown.version)}
              onRemove={() => setAsking('version')}
            />
          ) : null}
        </>
      ) : null}
      {compared && shown ? (
        <div className="mb-18">
          <Compare a={shown} b={compared} onClose={() => set('with', '')} />
        </div>
      ) : null}
      {history.data && !versions.length && chapter?.went?.[0] ? (
        <div className="note past">
          It was renamed to{' '}
          <Link to={objectPage(chapter.went[0].bucket, chapter.went[0].key)}>
            {visible(`${chapter.went[0].bucket}/${chapter.went[0].key}`)}
          </Link>
          , <When at={chapter.went[0].at} />.
        </div>
      ) : null}
      {here && latest?.marker && o.data ? (
        <p className="small dim mb-8">
          What it was, version <span className="key">{o.data.version}</span>:
        </p>
      ) : null}
      {here && o.data ? (
        <div className="columns grid grid-cols-[minmax(0,1fr)_minmax(0,1.8fr)_minmax(0,1.15fr)] gap-y-14 gap-x-26">
          <ObjectFacts o={o.data} bucket={bucket} />
          <Fields key={o.data.version} o={o.data} bucket={bucket} version={past ? read : ''} />
          <div className="grid gap-14 content-start">
            {past ? null : <Copies bucket={bucket} objectKey={key} />}
            <Coming bucket={bucket} o={o.data} />
            <Digests o={o.data} bucket={bucket} />
          </div>
        </div>
      ) : null}
      {asking === 'link' ? <LinkDialog bucket={bucket} name={key} onClose={() => setAsking(null)} /> : null}
      {asking === 'remove' ? (
        <RemoveDialog
          what={{ bucket, keys: [key], prefixes: [] }}
          onClose={() => setAsking(null)}
          onDone={() => {
            setAsking(null);
            if (!versions.length || latest?.version === 'null') void navigate(bucketPage(bucket, folder));
          }}
        />
      ) : null}
      {asking === 'copy' || asking === 'rename' ? (
        <MoveDialog
          bucket={bucket}
          objectKey={key}
          version={past ? read : ''}
          move={asking === 'rename'}
          onClose={() => setAsking(null)}
        />
      ) : null}
      {asking === 'version' && shown ? (
        <RemoveVersion
          bucket={bucket}
          objectKey={key}
          v={shown}
          before={versions[1]}
          onClose={() => setAsking(null)}
          onDone={() => {
            setAsking(null);
            set('version', '');
          }}
        />
      ) : null}
    </>
  );
}
