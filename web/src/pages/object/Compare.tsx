import { Section, Size, When } from '../../parts/Bits';
import { Shape } from '../../parts/Marks';
import { things, visible } from '../../parts/format';
import { type Version, compareFields } from './history';

/** Two versions side by side: what differs is marked. */
export function Compare({ a, b, onClose }: { a: Version; b: Version; onClose: () => void }) {
  const rows = [
    ...compareFields(a.metadata, b.metadata),
    ...compareFields(a.tags, b.tags).map((r) => ({ ...r, name: `tag ${r.name}` })),
  ];
  const differ = rows.filter((r) => !r.same).length;
  const cell = (s: string | undefined) => (s === undefined ? <span className="faint">not there</span> : visible(s));
  const same = a.etag === b.etag && a.size === b.size;
  return (
    <Section
      title="Compared"
      aside={differ ? `${things(differ, 'field differs', 'fields differ')}` : 'the same metadata and tags'}
      end={
        <button type="button" className="link" onClick={onClose}>
          Close
        </button>
      }
    >
      <table className="open tight">
        <colgroup>
          <col className="w-26" />
          <col className="w-150" />
          <col />
          <col />
        </colgroup>
        <thead>
          <tr>
            <th />
            <th>Field</th>
            <th className="key">
              {a.version} <span className="faint">chosen</span>
            </th>
            <th className="key">{b.version}</th>
          </tr>
        </thead>
        <tbody>
          <tr>
            <td>
              {same ? null : (
                <span className="warn">
                  <Shape kind="warn" size={11} />
                </span>
              )}
            </td>
            <td>content</td>
            <td>
              <Size bytes={a.size} /> <span className="key faint">{a.etag?.slice(0, 12)}</span>
            </td>
            <td>
              <Size bytes={b.size} /> <span className="key faint">{b.etag?.slice(0, 12)}</span>{' '}
              {same ? <span className="faint">the same</span> : null}
            </td>
          </tr>
          <tr>
            <td />
            <td>written</td>
            <td>
              <When at={a.created} /> by {a.by}
            </td>
            <td>
              <When at={b.created} /> by {b.by}
            </td>
          </tr>
          {rows.map((r) => (
            <tr key={r.name}>
              <td>
                {r.same ? null : (
                  <span className="warn" title="differs">
                    <Shape kind="warn" size={11} />
                    <span className="sr">differs</span>
                  </span>
                )}
              </td>
              <td className="key">{r.name}</td>
              <td className={`wrap-any ${r.same ? 'dim' : 'strong'}`}>{cell(r.a)}</td>
              <td className={`wrap-any ${r.same ? 'dim' : 'strong'}`}>{cell(r.b)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Section>
  );
}
