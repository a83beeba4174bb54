import { useEffect, useState } from 'react';
import { Link } from 'react-router';

import { bucketPage, visible } from '../../parts/format';

/** Chooses the moment that one looks at. */
export function AsOf({ moment, onChange }: { moment: string; onChange: (moment: string) => void }) {
  // The field's own form of a moment: local, without a zone.
  const local = (d: Date) => new Date(d.getTime() - d.getTimezoneOffset() * 6e4).toISOString().slice(0, 16);
  const [text, setText] = useState(moment ? local(new Date(moment)) : '');
  useEffect(() => setText(moment ? local(new Date(moment)) : ''), [moment]);
  const take = (value: string) => {
    setText(value);
    const d = new Date(value);
    if (!value) onChange('');
    else if (!Number.isNaN(d.getTime()) && d.getTime() < Date.now()) onChange(d.toISOString());
  };
  const ahead = !!text && new Date(text).getTime() >= Date.now();
  return (
    <label className="row small dim ml-6">
      as of
      <span className={`field w-186 ${ahead ? 'bad' : ''}`}>
        <input
          type="datetime-local"
          aria-invalid={ahead}
          value={text}
          max={local(new Date())}
          onChange={(e) => take(e.target.value)}
          aria-label="As of a moment"
        />
      </span>
      {ahead ? <span className="bad">this moment is yet to come: choose an earlier one</span> : null}
    </label>
  );
}

export function Crumbs({ bucket, folder, asOf }: { bucket: string; folder: string; asOf: string }) {
  const parts = folder.split('/').slice(0, -1);
  return (
    <nav className="key nowrap text-[14px]" aria-label="Where one is">
      {parts.length ? <Link to={bucketPage(bucket, '', asOf)}>{bucket}</Link> : <b>{bucket}</b>}{' '}
      <span className="faint">/</span>{' '}
      {parts.map((p, i) => {
        const prefix = parts.slice(0, i + 1).join('/') + '/';
        return (
          <span key={prefix}>
            {i === parts.length - 1 ? (
              <b>{visible(p)}</b>
            ) : (
              <Link to={bucketPage(bucket, prefix, asOf)}>{visible(p)}</Link>
            )}{' '}
            <span className="faint">/</span>{' '}
          </span>
        );
      })}
    </nav>
  );
}
