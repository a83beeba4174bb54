import { Link, useParams } from 'react-router';

import type { Schemas } from '../../api/client';
import { useBucket, unreadable } from '../../data/queries';
import { NotOffered } from '../../parts/Allowed';
import { Trouble } from '../../parts/Bits';
import { State, versioningShape } from '../../parts/Marks';
import { bucketPage, size, things, visible } from '../../parts/format';
import { Lifecycle } from '../lifecycle/Lifecycle';
import Nowhere from '../Nowhere';
import { Browse } from './Browse';
import { Settings } from './Settings';
import { Usage } from './Usage';

const sections = [
  { id: '', name: 'Browse' },
  { id: 'lifecycle', name: 'Lifecycle' },
  { id: 'usage', name: 'Usage' },
  { id: 'settings', name: 'Settings' },
];

export default function BucketPage() {
  const { bucket = '', section = '' } = useParams();
  const b = useBucket(bucket);
  if (unreadable(b)) return <Trouble error={b.error} />;
  if (!b.data) return <p className="faint">Reading</p>;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>
            <span className="faint font-medium">Bucket</span> {b.data.name}
          </h1>
          <div className="meta">
            <span>
              owner <b className="strong">{b.data.account}</b>
            </span>
            <span>region {b.data.region}</span>
            <State kind={versioningShape(b.data.versioning)}>versioning {b.data.versioning}</State>
            {b.data.elsewhere ? (
              <span>
                new content goes to <b className="strong">{b.data.elsewhere}</b>
              </span>
            ) : null}
            {b.data.sealing ? <span>new content is encrypted</span> : null}
            <Shared b={b.data} />
          </div>
        </div>
        <div id="bucket-actions" className="row" />
      </div>
      {b.data.partly ? (
        <p className="row mb-14">
          <span className="dim">Open to you:</span>
          {(b.data.places ?? []).map((p) => (
            <Link key={p} className="key" to={bucketPage(bucket, p)}>
              {visible(p)}
            </Link>
          ))}
        </p>
      ) : (
        <Split b={b.data} />
      )}
      <nav className="strung" aria-label="This bucket">
        {sections
          .filter((s) => (s.id === 'settings' ? b.data.rights.includes('settings') : s.id === '' || !b.data.partly))
          .map((s) => (
            <Link
              key={s.id}
              to={s.id ? `/buckets/${bucket}/${s.id}` : bucketPage(bucket)}
              aria-current={s.id === section ? 'page' : undefined}
            >
              {s.name}
            </Link>
          ))}
      </nav>
      {section === '' ? (
        <Browse bucket={bucket} places={b.data.partly ? (b.data.places ?? []) : undefined} />
      ) : section === 'usage' ? (
        <Usage b={b.data} />
      ) : section === 'lifecycle' ? (
        <Lifecycle b={b.data} />
      ) : section === 'settings' && !b.data.rights.includes('settings') ? (
        <NotOffered>
          Who changes the settings of {b.data.name} administers its account, or has a grant to administer it.
        </NotOffered>
      ) : section === 'settings' ? (
        <Settings key={bucket} b={b.data} />
      ) : (
        <Nowhere />
      )}
    </>
  );
}

/** Whom the bucket was opened to. */
function Shared({ b }: { b: Schemas['BucketInfo'] }) {
  const list = b.shared ?? [];
  const open = list.filter((s) => s.to === 'anyone');
  return (
    <>
      {open.length ? (
        <State kind="warn">
          anyone may read {open.some((s) => !s.prefix) ? 'it' : open.map((s) => visible(s.prefix ?? '')).join(', ')}
        </State>
      ) : null}
      {list.length > open.length ? (
        <Link to={`/access/grants?bucket=${b.name}`}>{things(list.length - open.length, 'grant')}</Link>
      ) : null}
    </>
  );
}

/** What the bucket holds, against its quota. */
function Split({ b }: { b: Schemas['BucketInfo'] }) {
  const used = b.usage.bytes + b.usage.previousBytes;
  const all = b.quota ?? used;
  const share = (n: number) => (all ? `${(100 * n) / Math.max(all, used)}%` : '0');
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_auto] gap-y-4 gap-x-24 items-end mb-14">
      <div className="split" role="img" aria-label={`${size(used)} used${b.quota ? ` of ${size(b.quota)}` : ''}`}>
        {b.usage.bytes ? <i className="u-cur" style={{ width: share(b.usage.bytes) }} /> : null}
        {b.usage.previousBytes ? <i className="u-prev" style={{ width: share(b.usage.previousBytes) }} /> : null}
        <i className="flex-1 border-b-[1.5px] border-dotted border-b-edge h-[7.5px]" />
      </div>
      <div className="num small dim leading-14">{b.quota ? `quota ${size(b.quota)}` : 'no quota'}</div>
      <div className="row gap-26">
        <span>
          <span className="swatch u-cur" />
          <b className="strong">{size(b.usage.bytes)}</b> current, {things(b.usage.objects, 'object')}
        </span>
        {b.usage.previous || b.versioning !== 'off' ? (
          <span>
            <span className="swatch u-prev" />
            <b className="strong">{size(b.usage.previousBytes)}</b> in {things(b.usage.previous, 'previous version')}
          </span>
        ) : null}
        {b.usage.markers ? <span className="dim">{things(b.usage.markers, 'delete marker')}</span> : null}
      </div>
      <div className="num">
        {size(used)} used {b.quota ? <span className="faint">{((100 * used) / b.quota).toFixed(1)} %</span> : null}
      </div>
    </div>
  );
}
