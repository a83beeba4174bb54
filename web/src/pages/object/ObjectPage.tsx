import { useEffect, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';

import { Problem, type Schemas, api, ask, bodyAddress } from '../../api/client';
import { useBucket, useChange, useHistory, useObject } from '../../data/queries';
import { Complaint, CopyMark, Section, Size, Trouble, When } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { Shape, State, icons } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { ago, bucketPage, count, exact, middle, objectPage, size, things, visible } from '../../parts/format';
import { Compare } from './Compare';
import { Fields } from './Fields';
import { LinkDialog } from './LinkDialog';
import { MoveDialog } from './MoveDialog';
import { Strand } from './Strand';
import { type Chapter, type Version } from './history';
import { Select } from '../../parts/Select';

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
  const restore = useChange((v: string) => ask(api.POST('/api/v1/buckets/{bucket}/restore', { params: { path: { bucket } }, body: { key, version: v } })));
  const purge = useChange((v: string) => ask(api.POST('/api/v1/buckets/{bucket}/remove', { params: { path: { bucket } }, body: { versions: [{ key, version: v }] } })));
  if (isPrefix) return null;
  const set = (name: string, value: string) =>
    setQuery((q) => {
      if (value) q.set(name, value);
      else q.delete(name);
      if (name === 'version') q.delete('with');
      return q;
    }, { replace: true });
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
        {folder.split('/').slice(0, -1).map((p, i, all) => (
          <span key={i}>
            <Link to={bucketPage(bucket, all.slice(0, i + 1).join('/') + '/')}>{visible(p)}</Link> <span className="faint">/</span>{' '}
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
            <Strand chapters={history.data} chosen={shown?.version ?? ''} onChoose={(v) => set('version', v === latest?.version && !latest.marker ? '' : v)} />
          </Section>
          {shown ? (
            <Band v={shown} versions={versions} other={other} onCompare={(v) => set('with', v)} onRestore={() => bringBack(shown.version)} onRemove={() => setAsking('version')} />
          ) : null}
        </>
      ) : null}
      {compared && shown ? <div className="mb-18"><Compare a={shown} b={compared} onClose={() => set('with', '')} /></div> : null}
      {history.data && !versions.length && chapter?.went?.[0] ? (
        <div className="note past">
          It was renamed to <Link to={objectPage(chapter.went[0].bucket, chapter.went[0].key)}>{visible(`${chapter.went[0].bucket}/${chapter.went[0].key}`)}</Link>, <When at={chapter.went[0].at} />.
        </div>
      ) : null}
      {here && latest?.marker && o.data ? <p className="small dim mb-8">What it was, version <span className="key">{o.data.version}</span>:</p> : null}
      {here && o.data ? (
        <div className="columns grid grid-cols-[minmax(0,1fr)_minmax(0,1.8fr)_minmax(0,1.15fr)] gap-y-14 gap-x-26">
          <Facts o={o.data} bucket={bucket} />
          <Fields key={o.data.version} o={o.data} bucket={bucket} version={past ? read : ''} />
          <Digests o={o.data} bucket={bucket} />
        </div>
      ) : null}
      {asking === 'link' ? <LinkDialog bucket={bucket} name={key} onClose={() => setAsking(null)} /> : null}
      {asking === 'remove' ? <RemoveDialog what={{ bucket, keys: [key], prefixes: [] }} onClose={() => setAsking(null)} onDone={() => { setAsking(null); if (!versions.length || latest?.version === 'null') void navigate(bucketPage(bucket, folder)); }} /> : null}
      {asking === 'copy' || asking === 'rename' ? <MoveDialog bucket={bucket} objectKey={key} version={past ? read : ''} move={asking === 'rename'} onClose={() => setAsking(null)} /> : null}
      {asking === 'version' && shown ? (
        <Dialog open onClose={() => setAsking(null)} title={shown.marker ? 'Remove the delete marker?' : 'Remove this version for good?'}
          footer={
            <>
              <button type="button" className="btn" autoFocus onClick={() => setAsking(null)}>
                Keep
              </button>
              <button type="button" className="btn harm solid" disabled={purge.isPending} onClick={() => purge.mutate(shown.version, { onSuccess: () => { toast(`Removed version ${shown.version}`); setAsking(null); set('version', ''); } })}>
                Remove it
              </button>
            </>
          }>
          {shown.marker ? (
            <p>{shown.latest ? 'The object comes back as its latest version.' : 'It is one of several; the object stays as it is.'}</p>
          ) : (
            <p>
              Version <b className="key">{shown.version}</b>, <Size bytes={shown.size} />, written <When at={shown.created} /> by {shown.by}. It cannot be brought back.
              {shown.latest && versions[1] && !versions[1].marker ? ' The one before it becomes current.' : ''}
            </p>
          )}
          {purge.error ? <Complaint error={purge.error} /> : null}
        </Dialog>
      ) : null}
    </>
  );
}

const Sum = ({ versions, more }: { versions: Version[]; more: boolean }) => {
  const kept = versions.filter((v) => !v.marker);
  const previous = kept.filter((v) => !v.latest);
  return (
    <>
      {things(kept.length, 'version')}
      {more ? ' read, older ones follow' : ''}, {size(kept.reduce((n, v) => n + v.size, 0))} in all
      {previous.length ? `, ${size(previous.reduce((n, v) => n + v.size, 0))} of it previous` : ''}
    </>
  );
};

const Legend = () => (
  <span className="row gap-14">
    <span className="state run">
      <Shape kind="good" size={10} /> current
    </span>
    <span className="state past">
      <Shape kind="past" size={10} /> previous
    </span>
    <span className="state">
      <Shape kind="gone" size={10} /> delete marker
    </span>
    <span className="state">
      <Shape kind="rename" size={10} /> renamed
    </span>
    <span className="state faint">| metadata changed</span>
  </span>
);

/** Says that the object is deleted, and how it comes back. */
function Deleted({ chapter, onRestore }: { chapter: Chapter; onRestore: (version: string) => void }) {
  const versions = chapter.versions ?? [];
  const marker = versions[0]!;
  const last = versions.find((v) => !v.marker);
  const went = chapter.went?.find((w) => w.at === marker.created);
  return (
    <div className="note past row mb-12 flex-wrap" role="status">
      <Shape kind="gone" size={11} />
      {went ? (
        <span className="grow">
          <b className="strong">Renamed</b> to <Link to={objectPage(went.bucket, went.key)}>{visible(`${went.bucket}/${went.key}`)}</Link>, <When at={went.at} />, by <span className="key">{went.by}</span>. What it was stays here as previous versions.
        </span>
      ) : (
        <span className="grow">
          <b className="strong">Deleted</b> <When at={marker.created} /> by <span className="key">{marker.by}</span>
          {marker.source ? <span className="dim"> from {marker.source}</span> : null}. A delete marker hides it; its versions are kept.
        </span>
      )}
      {last ? (
        <button type="button" className="btn low" onClick={() => onRestore(last.version)}>
          Bring back the last version, {size(last.size)}
        </button>
      ) : null}
    </div>
  );
}

interface BandProps {
  v: Version;
  versions: Version[];
  other: string;
  onCompare: (version: string) => void;
  onRestore: () => void;
  onRemove: () => void;
}

/** The version that one looks at, and what can be done with it. */
function Band({ v, versions, other, onCompare, onRestore, onRemove }: BandProps) {
  const others = versions.filter((x) => !x.marker && x.version !== v.version);
  return (
    <div className={`row min-h-36 pt-4 pr-8 pb-4 pl-10 mt-2 mx-0 mb-14 flex-wrap border-l-3 ${v.latest && !v.marker ? 'bg-woad-wash border-l-woad' : 'bg-heather-wash border-l-heather'}`}>
      <b className="strong">{v.marker ? 'Delete marker' : v.latest ? 'Current version' : 'Previous version'}</b> <span className="key">{v.version}</span>
      <span className="dim">
        {v.marker ? 'set' : (v.origin?.how ?? 'written')} <span title={exact(new Date(v.created))}><When at={v.created} /></span> by <b className="strong">{v.by}</b>
        {v.source ? ` from ${v.source}` : ''}
        {v.marker ? '' : `, revision ${v.revision}`}
        {v.origin?.how === 'restored' ? `, from version ${v.origin.version}` : v.origin ? `, from ${visible(v.origin.bucket + '/' + v.origin.key)}` : ''}
      </span>
      <span className="row ml-auto">
        {!v.marker && others.length ? (
          <span className="row small dim">
            compare with
            <Select className="field sel h-24" value={other} onChange={onCompare} label="Compare with"
              options={[['', 'none'], ...others.map((x) => [x.version, `${x.version}, ${x.latest ? 'current' : new Date(x.created).toLocaleDateString('en-GB')}`] as const)]} />
          </span>
        ) : null}
        {!v.latest && !v.marker ? (
          <button type="button" className="btn low" onClick={onRestore}>
            Restore
          </button>
        ) : null}
        {!v.latest || v.marker ? (
          <button type="button" className="btn low harm" onClick={onRemove}>
            {v.marker ? 'Remove the marker' : 'Remove for good'}
          </button>
        ) : null}
      </span>
    </div>
  );
}

type Info = Schemas['ObjectInfo'];

function Facts({ o, bucket }: { o: Info; bucket: string }) {
  const extra: [string, string | undefined][] = [
    ['Cache', o.headers?.['cache-control']],
    ['Disposition', o.headers?.['content-disposition']],
    ['Encoding', o.headers?.['content-encoding']],
    ['Language', o.headers?.['content-language']],
    ['Expires', o.headers?.expires],
  ];
  return (
    <Section title="Facts">
      <dl className="facts pt-6">
        <dt>Size</dt>
        <dd>
          <Size bytes={o.size} /> <span className="faint small">{count(o.size)} bytes</span>
        </dd>
        <dt>Type</dt>
        <dd className="key cut" title={visible(o.contentType)}>
          {visible(o.contentType) || <span className="faint">none</span>}
        </dd>
        <dt>Written</dt>
        <dd>
          <When at={o.created} /> <span className="faint small">{ago(new Date(o.created))} ago</span>
        </dd>
        <dt>By key</dt>
        <dd className="key">{o.createdBy}</dd>
        <dt>Tier</dt>
        <dd>{o.tier}</dd>
        <dt>Arrived</dt>
        <dd>{o.arrived}</dd>
        <dt>Kept</dt>
        <dd>{o.kept}{o.sealed ? ', encrypted' : ''}</dd>
        {extra.filter(([, v]) => v).map(([name, v]) => (
          <div className="contents" key={name}>
            <dt>{name}</dt>
            <dd className="key wrap-any">{visible(v!)}</dd>
          </div>
        ))}
        <dt>Address</dt>
        <dd className="key nowrap" title={visible(`${bucket}/${o.key}`)}>
          {middle(visible(`${bucket}/${o.key}`), 22)}
          <CopyMark text={`${bucket}/${o.key}`} what="address" />
        </dd>
      </dl>
    </Section>
  );
}

function Digests({ o, bucket }: { o: Info; bucket: string }) {
  return (
    <Section title="Digests" aside="of the whole content">
      <dl className="facts pt-6">
        {o.digests.map((d) => (
          <div className="contents" key={d.kind}>
            <dt>{d.kind}</dt>
            <dd className="key nowrap" title={d.value}>
              {middle(d.value, 24)}
              <CopyMark text={d.value} what={d.kind} />
            </dd>
          </div>
        ))}
        <dt>ETag</dt>
        <dd className="key nowrap" title={o.etag}>
          {middle(o.etag, 24)}
          <CopyMark text={o.etag} what="ETag" />
        </dd>
      </dl>
      <p className="small dim mt-8">
        Computed on arrival, and compared with what the client claimed if it claimed one; the scrubber reads the bytes again in its rounds. To read it with the same check:
      </p>
      <pre className="block mt-6">{`spindle object get \\\n  '${visible(`${bucket}/${o.key}`)}'`}</pre>
    </Section>
  );
}
