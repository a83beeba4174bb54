import { Checkbox } from 'radix-ui';
import { Link } from 'react-router';

import type { Schemas } from '../../api/client';
import { Size, When } from '../../parts/Bits';
import { icons } from '../../parts/Marks';
import { bucketPage, count, middle, objectPage, visible } from '../../parts/format';

export interface Row {
  id: string; // "p" or "k" and the name
  name: string;
  object?: Schemas['ListedObject'];
  beneath?: Schemas['UsageInfo']; // of a prefix
}

export const rowHeight = 28;

/** A line of a listing: an object, or a prefix with what is beneath it. */
export function Line({
  r,
  bucket,
  asOf,
  folder,
  field,
  chosen,
  lit,
  onToggle,
}: {
  r: Row;
  bucket: string;
  asOf: string;
  folder: string;
  field: string;
  chosen: boolean;
  lit: boolean;
  onToggle: () => void;
}) {
  const name = visible(r.name.startsWith(folder) ? r.name.slice(folder.length) : r.name);
  return (
    <tr className={`${chosen ? 'chosen' : ''} ${lit ? 'lit' : ''}`} style={{ height: rowHeight }}>
      <td>
        <Checkbox.Root
          className="check"
          disabled={!!asOf}
          checked={chosen}
          onCheckedChange={onToggle}
          aria-label={`Choose ${name}`}
        />
      </td>
      <td className="cut" title={visible(r.name)}>
        <span className="row gap-7">
          <span className="faint">{r.object ? icons.sheet : icons.fold}</span>
          <Link
            className="plain key"
            to={r.object ? objectPage(bucket, r.name, asOf && r.object.version) : bucketPage(bucket, r.name, asOf)}
          >
            {middle(name, 64)}
          </Link>
        </span>
      </td>
      <td className="num">
        {r.object ? (
          <Size bytes={r.object.size} />
        ) : r.beneath ? (
          <span
            title={`${count(r.beneath.objects)} objects${r.beneath.previous ? `, and ${count(r.beneath.previous)} previous versions` : ''}`}
          >
            <Size bytes={r.beneath.bytes} />
          </span>
        ) : null}
      </td>
      <td className="dim">{r.object ? <When at={r.object.created} /> : null}</td>
      <td className="dim cut">{r.object?.by}</td>
      <td className="cut" title={r.object?.metadata?.[field]}>
        {field === 'taxon' ? <i>{r.object?.metadata?.[field]}</i> : r.object?.metadata?.[field]}
      </td>
    </tr>
  );
}
