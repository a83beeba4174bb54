import { Link } from 'react-router';

import { When } from '../../parts/Bits';
import { Shape } from '../../parts/Marks';
import { objectPage, size, visible } from '../../parts/format';
import { type Chapter } from './history';

/** Says that the object is deleted, and how it comes back. */
export function Deleted({ chapter, onRestore }: { chapter: Chapter; onRestore: (version: string) => void }) {
  const versions = chapter.versions ?? [];
  const marker = versions[0]!;
  const last = versions.find((v) => !v.marker);
  const went = chapter.went?.find((w) => w.at === marker.created);
  return (
    <div className="note past row mb-12 flex-wrap" role="status">
      <Shape kind="gone" size={11} />
      {went ? (
        <span className="grow">
          <b className="strong">Renamed</b> to{' '}
          <Link to={objectPage(went.bucket, went.key)}>{visible(`${went.bucket}/${went.key}`)}</Link>,{' '}
          <When at={went.at} />, by <span className="key">{went.by}</span>. What it was stays here as previous versions.
        </span>
      ) : (
        <span className="grow">
          <b className="strong">Deleted</b> <When at={marker.created} /> by <span className="key">{marker.by}</span>
          {marker.source ? <span className="dim"> from {marker.source}</span> : null}. A delete marker hides it; its
          versions are kept.
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
