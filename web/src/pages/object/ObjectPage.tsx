import { useEffect, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';

import { Problem, type Schemas, api, ask, bodyAddress } from '../../api/client';
import { useObject } from '../../data/queries';
import { CopyMark, Section, Size, Trouble, When, useCopy } from '../../parts/Bits';
import { RemoveDialog } from '../../parts/RemoveDialog';
import { icons } from '../../parts/Marks';
import { ago, bucketPage, count, middle, visible } from '../../parts/format';

export default function ObjectPage() {
  const { bucket = '' } = useParams();
  const [query] = useSearchParams();
  const key = query.get('key') ?? '';
  const navigate = useNavigate();
  const copy = useCopy();
  const [removing, setRemoving] = useState(false);
  const o = useObject(bucket, key);
  const folder = key.slice(0, key.lastIndexOf('/') + 1);
  const isPrefix = o.error instanceof Problem && o.error.code === 'key-is-prefix';
  useEffect(() => {
    if (isPrefix) void navigate(bucketPage(bucket, key.replace(/\/?$/, '/')), { replace: true });
  }, [isPrefix, bucket, key, navigate]);
  if (isPrefix) return null;
  const link = async () => {
    const l = await ask(api.POST('/api/v1/buckets/{bucket}/link', { params: { path: { bucket } }, body: { key, seconds: 3600 } }));
    await copy(l.url, 'Link for 1 hour');
  };
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
        <h1 className="exact wrap-any">{visible(key.slice(folder.length)) || '(empty name)'}</h1>
        {o.data ? (
          <div className="row">
            <a className="btn main" href={bodyAddress(bucket, key)} download style={{ textDecoration: 'none' }}>
              {icons.down} Download
            </a>
            <button type="button" className="btn" onClick={() => void link()}>
              {icons.copy} Copy link for 1 hour
            </button>
            <button type="button" className="btn harm" onClick={() => setRemoving(true)}>
              Remove
            </button>
          </div>
        ) : null}
      </div>
      {o.error ? <Trouble error={o.error} /> : null}
      {o.data ? (
        <div className="columns" style={{ display: 'grid', gridTemplateColumns: 'minmax(0,1fr) minmax(0,1.5fr) minmax(0,1.25fr)', gap: '14px 26px' }}>
          <Facts o={o.data} bucket={bucket} />
          <Metadata o={o.data} />
          <Digests o={o.data} bucket={bucket} />
        </div>
      ) : null}
      {removing ? <RemoveDialog what={{ bucket, keys: [key], prefixes: [] }} onClose={() => setRemoving(false)} onDone={() => void navigate(bucketPage(bucket, folder))} /> : null}
    </>
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
      <dl className="facts" style={{ paddingTop: 6 }}>
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
        <dd>{o.kept}</dd>
        {extra.filter(([, v]) => v).map(([name, v]) => (
          <div key={name} style={{ display: 'contents' }}>
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

function Metadata({ o }: { o: Info }) {
  const fields = Object.entries(o.metadata ?? {}).sort(([a], [b]) => (a < b ? -1 : 1));
  return (
    <Section title="Metadata" aside={`revision ${o.revision}`} end={<span className="faint">{count(o.metadataBytes)} of 2,048 bytes</span>}>
      {fields.length ? (
        <table className="open">
          <tbody>
            {fields.map(([name, value]) => (
              <tr key={name}>
                <td className="key" style={{ width: 130, verticalAlign: 'top', paddingTop: 4 }}>
                  {name}
                </td>
                <td className="wrap-any">{name === 'taxon' ? <i>{visible(value)}</i> : visible(value)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <div className="empty" style={{ borderTop: 0 }}>
          <p className="dim">It was written without metadata. Give fields when putting it:</p>
          <pre className="block" style={{ marginTop: 6 }}>--metadata taxon='Calluna vulgaris'</pre>
        </div>
      )}
    </Section>
  );
}

function Digests({ o, bucket }: { o: Info; bucket: string }) {
  return (
    <Section title="Digests" aside="of the whole content">
      <dl className="facts" style={{ paddingTop: 6 }}>
        {o.digests.map((d) => (
          <div key={d.kind} style={{ display: 'contents' }}>
            <dt>{d.kind}</dt>
            <dd className="key nowrap" title={d.value}>
              {middle(d.value, 28)}
              <CopyMark text={d.value} what={d.kind} />
            </dd>
          </div>
        ))}
        <dt>ETag</dt>
        <dd className="key nowrap" title={o.etag}>
          {middle(o.etag, 28)}
          <CopyMark text={o.etag} what="ETag" />
        </dd>
      </dl>
      <p className="small dim" style={{ marginTop: 8 }}>
        Computed on arrival, and compared with what the client claimed if it claimed one; the scrubber reads the bytes again in its rounds. To read it with the same check:
      </p>
      <pre className="block" style={{ marginTop: 6 }}>{`spindle object get \\\n  '${visible(`${bucket}/${o.key}`)}'`}</pre>
    </Section>
  );
}
