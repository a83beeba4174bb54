import { Link } from 'react-router';

import type { Schemas } from '../../api/client';
import { Size, When } from '../../parts/Bits';
import { State, type StateKind } from '../../parts/Marks';
import { bucketPage, middle, objectPage, visible } from '../../parts/format';

export const kinds: [string, StateKind][] = [
  ['written', 'good'],
  ['copied', 'good'],
  ['restored', 'past'],
  ['renamed', 'rename'],
  ['renamed away', 'rename'],
  ['annotated', 'none'],
  ['deleted', 'gone'],
  ['removed', 'gone'],
  ['version removed', 'gone'],
  ['bucket created', 'good'],
  ['bucket changed', 'none'],
  ['bucket removed', 'gone'],
  ['damage found', 'wrong'],
  ['damage mended', 'good'],
];
const shapeOf = new Map(kinds);
export const rowHeight = 27;

/** A change, as a row. */
export function Entry({ e }: { e: Schemas['JournalLine'] }) {
  const address = e.key ? `${e.bucket}/${e.key}` : e.bucket;
  const says = e.says ?? '';
  return (
    <tr style={{ height: rowHeight }}>
      <td className="dim">
        <When at={e.at} />
      </td>
      <td>
        <State kind={shapeOf.get(e.kind) ?? 'none'}>{e.kind}</State>
      </td>
      <td className="cut" title={visible(address)}>
        <Link className="plain key" to={e.key ? objectPage(e.bucket, e.key) : bucketPage(e.bucket)}>
          {middle(visible(address), 40)}
        </Link>
      </td>
      <td className="dim cut" title={visible(says)}>
        {middle(visible(says), 26)}
      </td>
      <td className="num">{e.key ? <Size bytes={e.size} /> : null}</td>
      <td className="key cut">{e.who}</td>
      <td className="dim cut">{e.source}</td>
    </tr>
  );
}
