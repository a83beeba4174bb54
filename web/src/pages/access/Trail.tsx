import { useTrail } from '../../data/access';
import { Trouble, When } from '../../parts/Bits';
import { State, type StateKind } from '../../parts/Marks';
import { visible } from '../../parts/format';
import { More } from '../../parts/Listing';
import { Filters, useFilters } from '../../parts/Filters';
import { Select, same, sinces } from '../../parts/Select';

const kinds: [string, StateKind][] = [
  ['refused', 'wrong'],
  ['sign-in failed', 'warn'],
  ['signed in', 'good'],
  ['signed out', 'none'],
  ['session ended', 'gone'],
  ['key created', 'good'],
  ['key changed', 'none'],
  ['key replaced', 'past'],
  ['key removed', 'gone'],
  ['key tested', 'none'],
  ['grant created', 'good'],
  ['grant changed', 'none'],
  ['grant removed', 'gone'],
  ['person created', 'good'],
  ['person changed', 'none'],
  ['person removed', 'gone'],
  ['password changed', 'none'],
  ['account created', 'good'],
  ['account changed', 'none'],
  ['account removed', 'gone'],
  ['setting changed', 'none'],
  ['master key rotated', 'past'],
];
const shapeOf = new Map(kinds);

/** What would have let a refused request through. */
const needs = (detail?: Record<string, unknown>) =>
  typeof detail?.['needs'] === 'string' ? `To change it: ${visible(detail['needs'])}` : undefined;

/** What was done to access and settings, and what was refused; apart from the journal of objects. */
export default function Trail() {
  const { filter, set, some, clear } = useFilters('kind', 'who', 'subject', 'since');
  const list = useTrail(filter);
  const rows = list.data?.pages.flatMap((p) => p.entries) ?? [];
  return (
    <>
      <Filters some={some} onClear={clear}>
        <Select
          className="field sel w-170"
          value={filter.kind}
          onChange={(v) => set('kind', v)}
          label="Kind"
          options={[['', 'all kinds'], ...same(kinds.map(([k]) => k))]}
        />
        <span className="field w-180">
          <input
            value={filter.who}
            onChange={(e) => set('who', e.target.value)}
            placeholder="by person or key"
            aria-label="By person or key"
          />
        </span>
        <span className="field mono w-220">
          <input
            value={filter.subject}
            onChange={(e) => set('subject', e.target.value)}
            placeholder="to what begins with"
            aria-label="Done to what begins with"
          />
        </span>
        <Select
          className="field sel w-130"
          value={filter.since}
          onChange={(v) => set('since', v)}
          label="Since"
          options={sinces}
        />
      </Filters>
      {list.error ? <Trouble error={list.error} /> : null}
      {list.data && !rows.length ? (
        <div className="empty">
          <b className="strong">Nothing matches.</b>
          <p className="dim">Sign-ins, changes of access and settings, and refusals stand here.</p>
        </div>
      ) : (
        <table className="table-fixed">
          <colgroup>
            <col className="w-112" />
            <col className="w-142" />
            <col className="w-150" />
            <col className="w-210" />
            <col />
            <col className="w-92" />
          </colgroup>
          <thead>
            <tr>
              <th>When</th>
              <th>What</th>
              <th>By</th>
              <th>To</th>
              <th />
              <th>From</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((e) => (
              <tr key={e.id}>
                <td className="dim">
                  <When at={e.at} />
                </td>
                <td>
                  <State kind={shapeOf.get(e.kind) ?? 'none'}>{e.kind}</State>
                </td>
                <td className="cut" title={e.who}>
                  {e.who}
                </td>
                <td className="key cut" title={visible(e.subject ?? '')}>
                  {visible(e.subject ?? '')}
                </td>
                <td className="dim whitespace-normal" title={needs(e.detail)}>
                  {visible(e.says ?? '')}
                </td>
                <td className="dim cut">{e.source}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <More list={list} />
    </>
  );
}
