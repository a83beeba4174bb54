import { type Placement, usePlacements } from '../../data/placements';
import { useSession } from '../../data/session';
import { Select } from '../../parts/Select';
import { things } from '../../parts/format';
import { TierChoice } from '../tiers/TierChoice';

/** How bytes are to be kept: as a placement says, or in a tier of one's own choice. */
export interface Kept {
  placement: string; // "" for none
  tier: string;
}

interface Props {
  account: string;
  value: Kept;
  onChange: (kept: Kept) => void;
}

/** A choice of what an account is offered, what is fixed for it and by whom; a tier beside that. */
export function PlacementChoice({ account, value, onChange }: Props) {
  const session = useSession();
  const list = usePlacements(account).data;
  if (!list) return null;
  if (list.fixed && !session.operator)
    return <Fixed name={list.default ?? ''} by={list.fixedBy ?? ''} list={list.placements} />;
  if (!list.placements.length)
    return <TierChoice value={value.tier} onChange={(tier) => onChange({ placement: '', tier })} />;
  const chosen = list.placements.find((p) => p.name === value.placement);
  return (
    <div>
      <label className="label" htmlFor="new-placement">
        How its bytes are kept
      </label>
      <Select
        id="new-placement"
        value={value.placement}
        onChange={(placement) => onChange({ ...value, placement })}
        options={[
          ...list.placements.map((p) => [p.name, `${p.name}${p.default ? ' (default)' : ''}: ${p.keeps}`] as const),
          ['', 'no placement: a tier'] as const,
        ]}
      />
      {list.fixed ? (
        <p className="small dim mt-4">
          For the account it is fixed to {list.default}, by {list.fixedBy}; operators may choose.
        </p>
      ) : null}
      {chosen ? <Means p={chosen} /> : null}
      {value.placement ? null : (
        <div className="mt-8">
          <TierChoice value={value.tier} onChange={(tier) => onChange({ placement: '', tier })} />
        </div>
      )}
    </div>
  );
}

/** Says what is fixed for an account. */
export function Fixed({ name, by, list }: { name: string; by: string; list: Placement[] }) {
  const p = list.find((x) => x.name === name);
  return (
    <div>
      <span className="label">How its bytes are kept</span>
      <p>
        As the placement <b className="strong">{name}</b> says. It is fixed for the account, by{' '}
        <span className="key">{by}</span>.
      </p>
      {p ? <Means p={p} /> : null}
    </div>
  );
}

/** What a placement does, and what it cannot do. */
export function Means({ p }: { p: Placement }) {
  return (
    <ul className="small dim mt-4 grid gap-2">
      <li>
        {p.keeps}; {p.losses ? `${things(p.losses, 'volume')} may be lost` : 'no volume may be lost'}; {p.price} a GiB
        and month.
      </li>
      {(p.limits ?? []).map((l) => (
        <li key={l}>{l}</li>
      ))}
    </ul>
  );
}
