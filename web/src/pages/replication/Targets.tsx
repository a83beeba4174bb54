import { useEndpoints } from '../../data/replication';
import { useTiers } from '../../data/lifecycle';
import { Field } from '../../parts/Bits';
import { about } from '../../parts/Form';
import { Switch } from '../../parts/Switch';

/** A target as the form keeps it. */
export interface TargetDraft {
  address: string;
  class: string;
  sealed: boolean;
}

export const noTarget: TargetDraft = { address: '', class: '', sealed: false };

const isThere = (t: TargetDraft) => t.address.startsWith('@');

interface Props {
  targets: TargetDraft[];
  onChange: (targets: TargetDraft[]) => void;
  error: unknown;
}

/** Where a rule copies to: a line for each target, with the tier or storage class its replicas lie in. */
export function Targets({ targets, onChange, error }: Props) {
  const endpoints = useEndpoints();
  const tiers = useTiers();
  const put = (i: number, t: Partial<TargetDraft>) => onChange(targets.map((x, at) => (at === i ? { ...x, ...t } : x)));
  const hints = [
    endpoints.data?.length ? `Endpoints: ${endpoints.data.map((x) => '@' + x.name).join(', ')}.` : '',
    tiers.data?.length ? `Tiers here: ${tiers.data.map((x) => x.name).join(', ')}.` : '',
  ];
  return (
    <div className="grid gap-8">
      {targets.map((t, i) => (
        <div key={i} className="grid grid-cols-[1fr_150px_auto_auto] items-end gap-12">
          <Field
            label={i === 0 ? 'To' : 'And to'}
            mono
            name={i === 0 ? 'targets' : `targets-${i + 1}`}
            value={t.address}
            onChange={(e) => put(i, { address: e.target.value })}
            placeholder="@endpoint/bucket/prefix or bucket/prefix"
            error={i === 0 ? about(error, 'targets') : undefined}
          />
          <Field
            label={isThere(t) ? 'Storage class there' : 'Tier'}
            name={i === 0 ? 'class' : `class-${i + 1}`}
            value={t.class}
            onChange={(e) => put(i, { class: e.target.value })}
            placeholder="the bucket's own"
          />
          <Switch on={t.sealed} onChange={(sealed) => put(i, { sealed })}>
            Sealed
          </Switch>
          <button
            type="button"
            className="btn bare"
            disabled={targets.length === 1}
            onClick={() => onChange(targets.filter((_, at) => at !== i))}
          >
            Leave out
          </button>
        </div>
      ))}
      <div className="row gap-12">
        <button type="button" className="btn" onClick={() => onChange([...targets, noTarget])}>
          Another target
        </button>
        <p className="small faint">{hints.filter(Boolean).join(' ')}</p>
      </div>
    </div>
  );
}
