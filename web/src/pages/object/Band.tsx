import { When } from '../../parts/Bits';
import { Select } from '../../parts/Select';
import { exact, visible } from '../../parts/format';
import { type Version } from './history';

interface BandProps {
  v: Version;
  versions: Version[];
  other: string;
  onCompare: (version: string) => void;
  onRestore: () => void;
  onRemove: () => void;
}

/** The version that one looks at, and what can be done with it. */
export function Band({ v, versions, other, onCompare, onRestore, onRemove }: BandProps) {
  const others = versions.filter((x) => !x.marker && x.version !== v.version);
  return (
    <div
      className={`row min-h-36 pt-4 pr-8 pb-4 pl-10 mt-2 mx-0 mb-14 flex-wrap border-l-3 ${v.latest && !v.marker ? 'bg-woad-wash border-l-woad' : 'bg-heather-wash border-l-heather'}`}
    >
      <b className="strong">{v.marker ? 'Delete marker' : v.latest ? 'Current version' : 'Previous version'}</b>{' '}
      <span className="key">{v.version}</span>
      <span className="dim">
        {v.marker ? 'set' : (v.origin?.how ?? 'written')}{' '}
        <span title={exact(new Date(v.created))}>
          <When at={v.created} />
        </span>{' '}
        by <b className="strong">{v.by}</b>
        {v.source ? ` from ${v.source}` : ''}
        {v.marker ? '' : `, revision ${v.revision}`}
        {v.origin?.how === 'restored'
          ? `, from version ${v.origin.version}`
          : v.origin
            ? `, from ${visible(v.origin.bucket + '/' + v.origin.key)}`
            : ''}
      </span>
      <span className="row ml-auto">
        {!v.marker && others.length ? (
          <span className="row small dim">
            compare with
            <Select
              className="field sel h-24"
              value={other}
              onChange={onCompare}
              label="Compare with"
              options={[
                ['', 'none'],
                ...others.map(
                  (x) =>
                    [
                      x.version,
                      `${x.version}, ${x.latest ? 'current' : new Date(x.created).toLocaleDateString('en-GB')}`,
                    ] as const,
                ),
              ]}
            />
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
