import { useState } from 'react';
import { Link } from 'react-router';

import { usePrefixes } from '../../data/queries';
import { icons } from '../../parts/Marks';
import { bucketPage, middle, visible } from '../../parts/format';

/** The bucket's prefixes; each is read when it is opened. */
export const Tree = ({ bucket, at }: { bucket: string; at: string }) => (
  <div role="tree" aria-label="Prefixes" style={{ overflow: 'hidden' }}>
    <div className={`treeline ${at === '' ? 'chosen' : ''}`} role="treeitem" aria-selected={at === ''} style={{ paddingLeft: 4 }}>
      <Link className="plain key strong" to={bucketPage(bucket)}>
        {bucket}/
      </Link>
    </div>
    <Children bucket={bucket} prefix="" depth={1} at={at} />
  </div>
);

function Children({ bucket, prefix, depth, at }: { bucket: string; prefix: string; depth: number; at: string }) {
  const list = usePrefixes(bucket, prefix, true);
  if (!list.data) return null;
  return (
    <>
      {list.data.slice(0, 200).map((p) => (
        <Limb key={p} bucket={bucket} prefix={p} parent={prefix} depth={depth} at={at} />
      ))}
      {list.data.length > 200 ? (
        <p className="small faint" style={{ paddingLeft: depth * 12 + 17 }}>
          and {list.data.length - 200} more
        </p>
      ) : null}
    </>
  );
}

function Limb({ bucket, prefix, parent, depth, at }: { bucket: string; prefix: string; parent: string; depth: number; at: string }) {
  const within = at.startsWith(prefix);
  const [chosen, setChosen] = useState<boolean | null>(null);
  const open = chosen ?? within;
  const name = visible(prefix.slice(parent.length));
  return (
    <>
      <div className={`treeline ${at === prefix ? 'chosen' : ''}`} style={{ paddingLeft: depth * 12 - 6 }} role="treeitem" aria-expanded={open} aria-selected={at === prefix}>
        <button type="button" className="faint" onClick={() => setChosen(!open)} aria-label={`${open ? 'Close' : 'Open'} ${name}`} style={{ transform: 'scale(.8)', width: 16 }}>
          {open ? icons.shut : icons.open}
        </button>
        <Link className={`plain key ${at === prefix ? 'strong' : ''}`} to={bucketPage(bucket, prefix)} title={name}>
          {middle(name, 22)}
        </Link>
      </div>
      {open ? <Children bucket={bucket} prefix={prefix} depth={depth + 1} at={at} /> : null}
    </>
  );
}
