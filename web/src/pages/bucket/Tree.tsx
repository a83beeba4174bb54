import { useState } from 'react';
import { Link } from 'react-router';

import { usePrefixes } from '../../data/queries';
import { icons } from '../../parts/Marks';
import { bucketPage, middle, size, visible } from '../../parts/format';

/** The bucket's prefixes; each is read when it is opened. Who may list some of it only sees that. */
export const Tree = ({ bucket, at, asOf, places }: { bucket: string; at: string; asOf: string; places?: string[] }) => (
  <div className="overflow-hidden" role="tree" aria-label="Prefixes">
    <div className={`treeline ${at === '' ? 'chosen' : ''} pl-4`} role="treeitem" aria-selected={at === ''}>
      <Link className="plain key strong" to={bucketPage(bucket, '', asOf)}>
        {bucket}/
      </Link>
    </div>
    {places ? (
      places.map((p) => <Limb key={p} bucket={bucket} prefix={p} parent="" depth={1} at={at} asOf={asOf} />)
    ) : (
      <Children bucket={bucket} prefix="" depth={1} at={at} asOf={asOf} />
    )}
  </div>
);

function Children({
  bucket,
  prefix,
  depth,
  at,
  asOf,
}: {
  bucket: string;
  prefix: string;
  depth: number;
  at: string;
  asOf: string;
}) {
  const list = usePrefixes(bucket, prefix, asOf);
  if (!list.data) return null;
  return (
    <>
      {list.data.prefixes.slice(0, 200).map((p) => (
        <Limb
          key={p}
          bucket={bucket}
          prefix={p}
          parent={prefix}
          depth={depth}
          at={at}
          asOf={asOf}
          bytes={list.data.usage?.[p]?.bytes}
        />
      ))}
      {list.data.prefixes.length > 200 ? (
        <p className="small faint" style={{ paddingLeft: depth * 12 + 17 }}>
          and {list.data.prefixes.length - 200} more
        </p>
      ) : null}
    </>
  );
}

function Limb({
  bucket,
  prefix,
  parent,
  depth,
  at,
  asOf,
  bytes,
}: {
  bucket: string;
  prefix: string;
  parent: string;
  depth: number;
  at: string;
  asOf: string;
  bytes?: number;
}) {
  const within = at.startsWith(prefix);
  const [chosen, setChosen] = useState<boolean | null>(null);
  const open = chosen ?? within;
  const name = visible(prefix.slice(parent.length));
  return (
    <>
      <div
        className={`treeline ${at === prefix ? 'chosen' : ''}`}
        style={{ paddingLeft: depth * 12 - 6 }}
        role="treeitem"
        aria-expanded={open}
        aria-selected={at === prefix}
      >
        <button
          type="button"
          className="faint [transform:scale(.8)] w-16"
          onClick={() => setChosen(!open)}
          aria-label={`${open ? 'Close' : 'Open'} ${name}`}
        >
          {open ? icons.shut : icons.open}
        </button>
        <Link
          className={`plain key ${at === prefix ? 'strong' : ''}`}
          to={bucketPage(bucket, prefix, asOf)}
          title={name}
        >
          {middle(name, 22)}
        </Link>
        {bytes === undefined ? null : <span className="small faint num ml-auto">{size(bytes)}</span>}
      </div>
      {open ? <Children bucket={bucket} prefix={prefix} depth={depth + 1} at={at} asOf={asOf} /> : null}
    </>
  );
}
