import { api, ask } from '../../api/client';
import { type Tier } from '../../data/lifecycle';
import { useChange } from '../../data/queries';
import { Field } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Ask } from '../../parts/Form';
import { Select } from '../../parts/Select';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { useFields } from '../../parts/useFields';
import { figure } from '../../parts/format';

/** Adds a tier, or changes one. */
export function TierForm({ tier, onClose }: { tier?: Tier; onClose: () => void }) {
  const toast = useToast();
  const [f, set, fields] = useFields({
    name: tier?.name ?? '',
    note: tier?.note ?? '',
    volumes: '',
    copies: tier?.pieces ?? String(tier?.copies ?? 1),
    without: '',
    giveUp: false,
    price: String(tier?.price ?? ''),
    requests: String(tier?.requests ?? ''),
    stay: String(tier?.shortestStay ?? 0),
    hours: tier?.restore ? String(tier.restore.seconds / 3600) : '',
    days: String(tier?.restore?.days ?? 7),
    packed: tier?.packed ?? false,
    sealed: tier?.sealed as boolean | undefined,
  });
  const named = f.volumes.split(/[\s,]+/).filter(Boolean);
  const elsewhere = tier?.elsewhere || named.some((v) => v.startsWith('@'));
  const sealed = f.sealed ?? elsewhere; // who keeps it there cannot read it, unless that is wanted
  const away = tier?.volumes?.find((v) => v.dir === f.without)?.away;
  const main = tier?.name === 'main';
  const restore = f.hours.trim() ? { seconds: Math.round(figure(f.hours) * 3600), days: figure(f.days) } : undefined;
  const body = {
    note: f.note,
    price: figure(f.price),
    requests: figure(f.requests),
    shortestStay: figure(f.stay),
    ...(main
      ? {}
      : {
          volumes: named,
          ...(f.copies.includes('+') ? { pieces: f.copies.trim() } : { copies: figure(f.copies, 1), pieces: 'none' }),
          ...(f.without ? { without: [f.without], giveUp: f.giveUp } : {}),
          packed: f.packed,
          sealed,
          restore,
          atOnce: !restore,
        }),
  };
  const save = useChange(() =>
    tier
      ? ask(
          api.PATCH('/api/v1/tiers/{tier}', {
            params: { path: { tier: tier.name } },
            body: { ...body, ifRevision: tier.revision },
          }),
        )
      : ask(api.POST('/api/v1/tiers', { body: { ...body, name: f.name } })),
  );
  const repair = useChange(() =>
    ask(api.POST('/api/v1/tiers/{tier}/repair', { params: { path: { tier: tier?.name ?? '' } } })),
  );
  const e = save.error ?? repair.error;
  const of = fields(e);
  return (
    <Ask
      title={tier ? `The tier ${tier.name}` : 'Add a tier'}
      act={tier ? 'Save' : 'Add it'}
      busy={save.isPending}
      ready={!!f.name}
      error={e}
      onClose={onClose}
      onAct={() =>
        save.mutate(undefined, {
          onSuccess: (t) => {
            toast(`The tier ${t.name} is saved`);
            onClose();
          },
        })
      }
    >
      {tier ? null : <Field label="Name" {...of('name')} autoFocus />}
      <Field label="What it is" {...of('note')} placeholder="cheap disks" />
      <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
        <Field label="GiB and month" {...of('price')} />
        <Field label="1,000 requests" {...of('requests')} />
        <Field label="Shortest stay, days" {...of('stay', 'shortestStay')} />
      </div>
      {main ? null : (
        <>
          {tier?.elsewhere ? null : (
            <Field
              label={tier ? 'Further directories' : 'Directories on the service’s machine, or a bucket at an endpoint'}
              mono
              {...of('volumes')}
              placeholder={tier ? '/mnt/slow1/spindle' : '/mnt/slow1/spindle or @lowland-annex/bodies'}
              hint={
                elsewhere
                  ? 'The bucket is empty, and keeps bodies only: names, versions and history stay here.'
                  : 'Empty ones, or such as are not there yet; each on a disk of its own.'
              }
            />
          )}
          <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
            <Field label="Copies, or 4+2 pieces" {...of('copies', 'pieces')} disabled={elsewhere} />
            <Field label="Restored first, hours" {...of('hours', 'restore')} placeholder="read at once" />
            <Field label="Restored for, days" {...of('days')} />
          </div>
          {tier?.losses ? (
            <div>
              <label className="label" htmlFor="tier-without">
                Take a volume out
              </label>
              <Select
                id="tier-without"
                value={f.without}
                onChange={(without) => set({ without, giveUp: false })}
                options={[['', 'none'] as const, ...(tier.volumes ?? []).map((v) => [v.dir, v.dir] as const)]}
              />
              {f.without ? <p className="small dim mt-4">What was on it is made anew on the others.</p> : null}
              {away ? (
                <Check on={f.giveUp} onChange={(giveUp) => set({ giveUp })} label="The directory is lost for good">
                  <span className="small">
                    It is lost for good, and with it the bodies of which too little is left on the others.
                  </span>
                </Check>
              ) : null}
              <button
                type="button"
                className="btn mt-8"
                disabled={repair.isPending}
                onClick={() =>
                  repair.mutate(undefined, {
                    onSuccess: () => {
                      toast(`The tier ${f.name} is read, and made whole`);
                      onClose();
                    },
                  })
                }
              >
                Read all of it, and make it whole
              </button>
            </div>
          ) : null}
          <div className="row gap-26">
            <Switch on={f.packed} onChange={(v) => set({ packed: v })}>
              Compressed
            </Switch>
            <Switch on={sealed ?? false} onChange={(v) => set({ sealed: v })}>
              Encrypted at rest
            </Switch>
          </div>
        </>
      )}
    </Ask>
  );
}
