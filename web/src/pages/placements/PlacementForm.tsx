import { api, ask } from '../../api/client';
import { useTiers } from '../../data/lifecycle';
import { type Placement } from '../../data/placements';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Ask } from '../../parts/Form';
import { Select } from '../../parts/Select';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';

/** Adds a placement, or says to whom one is offered. */
export function PlacementForm({ placement: p, onClose }: { placement?: Placement; onClose: () => void }) {
  const toast = useToast();
  const tiers = useTiers().data ?? [];
  const [f, set, fields] = useFields({
    name: p?.name ?? '',
    note: p?.note ?? '',
    tier: p?.tier ?? 'main',
    sealing: p?.sealing ?? false,
    everyone: p?.everyone ?? false,
    accounts: (p?.accounts ?? []).join(', '),
  });
  const offer = { note: f.note, everyone: f.everyone, accounts: f.accounts.split(/[\s,]+/).filter(Boolean) };
  const save = useChange(() =>
    p
      ? ask(
          api.PATCH('/api/v1/placements/{placement}', {
            params: { path: { placement: p.name } },
            body: { ...offer, ifRevision: p.revision },
          }),
        )
      : ask(api.POST('/api/v1/placements', { body: { ...offer, name: f.name, tier: f.tier, sealing: f.sealing } })),
  );
  const remove = useChange(() =>
    ask(api.DELETE('/api/v1/placements/{placement}', { params: { path: { placement: p?.name ?? '' } } })),
  );
  const done = (says: string) => ({
    onSuccess: () => {
      toast(says);
      onClose();
    },
  });
  const e = save.error ?? remove.error;
  const of = fields(e);
  const tier = tiers.find((t) => t.name === f.tier);
  return (
    <Ask
      title={p ? `The placement ${p.name}` : 'Add a placement'}
      act={p ? 'Save' : 'Add it'}
      busy={save.isPending}
      ready={!!f.name}
      error={e}
      onClose={onClose}
      onAct={() => save.mutate(undefined, done(`The placement ${f.name} is saved`))}
    >
      {p ? (
        <p className="dim">
          It keeps bodies {p.keeps}, in the tier {p.tier}. That stays, since buckets have it.
        </p>
      ) : (
        <>
          <Field label="Name" {...of('name')} autoFocus />
          <div>
            <label className="label" htmlFor="placement-tier">
              Tier
            </label>
            <Select
              id="placement-tier"
              value={f.tier}
              onChange={(t) => set({ tier: t })}
              options={tiers.map((t) => [t.name, `${t.name}: ${t.keeps}`] as const)}
            />
            {(tier?.limits ?? []).map((l) => (
              <p key={l} className="small dim mt-4">
                {l}
              </p>
            ))}
          </div>
          <Check on={f.sealing} onChange={(sealing) => set({ sealing })} label="Encrypt content at rest">
            Encrypt content at rest, whatever the bucket says
          </Check>
        </>
      )}
      <Field label="What it is for" {...of('note')} />
      <Check on={f.everyone} onChange={(everyone) => set({ everyone })} label="Offer it to all accounts">
        Offer it to all accounts
      </Check>
      {f.everyone ? null : (
        <Field label="Offer it to these accounts" {...of('accounts')} placeholder="seed-lab, guests" />
      )}
      {p ? (
        <div>
          <button
            type="button"
            className="btn harm"
            disabled={!!p.buckets || remove.isPending}
            onClick={() => remove.mutate(undefined, done(`The placement ${p.name} is offered no more`))}
          >
            Remove it
          </button>
          {p.buckets ? <span className="small dim ml-8">It can go when no bucket has it.</span> : null}
        </div>
      ) : null}
    </Ask>
  );
}
