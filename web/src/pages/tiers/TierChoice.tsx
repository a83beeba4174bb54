import { useTiers } from '../../data/lifecycle';
import { Select } from '../../parts/Select';

interface Props {
  value: string;
  onChange: (tier: string) => void;
}

/** A choice of the tier that new content goes to; nothing where there is one tier only. */
export function TierChoice({ value, onChange }: Props) {
  const tiers = useTiers().data ?? [];
  if (tiers.length < 2) return null;
  const chosen = tiers.find((t) => t.name === value);
  return (
    <div>
      <label className="label" htmlFor="new-content-tier">
        New content goes to
      </label>
      <Select
        id="new-content-tier"
        value={value}
        onChange={onChange}
        options={tiers.map((t) => [t.name, t.note ? `${t.name}: ${t.note}` : t.name] as const)}
      />
      {chosen?.elsewhere ? (
        <p className="small dim mt-4">
          Its bytes are kept by another store{chosen.volumes?.[0] ? `, at ${chosen.volumes[0].dir}` : ''}. Names,
          versions and history stay here.
        </p>
      ) : null}
      {chosen?.restore ? <p className="small dim mt-4">What is in it is restored before it is read.</p> : null}
    </div>
  );
}
