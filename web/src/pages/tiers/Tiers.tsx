import { useState } from 'react';

import { api, ask } from '../../api/client';
import { type Tier, useTiers } from '../../data/lifecycle';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Field, Section, Size, Trouble, When } from '../../parts/Bits';
import { Ask, about, aboutNone } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { Select } from '../../parts/Select';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { size, span, things } from '../../parts/format';
import { TierSwatch } from '../lifecycle/TierSwatch';

/** The tiers: where bodies are kept, in how many copies, at what price, and how much room there is. */
export default function Tiers() {
  const session = useSession();
  const tiers = useTiers();
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState<Tier | null>(null);
  if (tiers.error && !tiers.data) return <Trouble error={tiers.error} />;
  return (
    <>
      <div className="pagehead">
        <h1>Tiers</h1>
        {session.operator ? (
          <button type="button" className="btn main" onClick={() => setAdding(true)}>
            Add a tier
          </button>
        ) : null}
      </div>
      <p className="dim mb-14 max-w-720">
        A tier is a place for the bytes of versions. Rules move what ages to cheaper ones; a put, a copy or a bucket can
        name one.
      </p>
      <Listing
        rows={tiers.data ?? []}
        id={(t) => t.name}
        columns={[
          {
            head: 'Tier',
            cell: (t) => (
              <>
                <TierSwatch tier={t.name} tiers={tiers.data ?? []} /> <b className="strong">{t.name}</b>
                {t.note ? <div className="small faint">{t.note}</div> : null}
              </>
            ),
          },
          { head: 'GiB and month', figure: true, cell: (t) => t.price },
          { head: '1,000 requests', figure: true, cell: (t) => t.requests },
          { head: 'Kept', cell: (t) => <Keeps t={t} />, className: 'dim' },
          { head: 'Read', cell: (t) => read(t), className: 'dim' },
          {
            head: 'Shortest stay',
            figure: true,
            cell: (t) => (t.shortestStay ? things(t.shortestStay, 'day') : 'none'),
            className: 'dim',
          },
          { head: 'Versions', figure: true, cell: (t) => (t.bytes === undefined ? null : <Size bytes={t.bytes} />) },
          {
            figure: true,
            cell: (t) =>
              session.operator ? (
                <button type="button" className="btn low" onClick={() => setOpen(t)}>
                  Change
                </button>
              ) : null,
          },
        ]}
      />
      {session.operator ? <Volumes tiers={tiers.data ?? []} /> : null}
      {adding ? <TierForm onClose={() => setAdding(false)} /> : null}
      {open ? <TierForm tier={open} onClose={() => setOpen(null)} /> : null}
    </>
  );
}

/** How a tier keeps bodies, and what of that is not so now. */
function Keeps({ t }: { t: Tier }) {
  return (
    <>
      {t.keeps}
      <div className="small faint">
        {t.losses ? `${things(t.losses, 'volume')} may be lost` : t.elsewhere ? '' : 'no volume may be lost'}
      </div>
      {(t.warnings ?? []).map((w) => (
        <div key={w} className="small">
          <State kind="warn">{w}</State>
        </div>
      ))}
      {t.owed ? (
        <div className="small">
          <State kind="wait">{things(t.owed, 'body lacks', 'bodies lack')} pieces</State>
        </div>
      ) : null}
      {t.repair ? <Repair r={t.repair} /> : null}
    </>
  );
}

/** The last repair of a tier, or how far it is. */
function Repair({ r }: { r: NonNullable<Tier['repair']> }) {
  const made = things(r.made, 'copy or piece', 'copies and pieces');
  if (r.finished)
    return (
      <div className="small faint">
        repaired <When at={r.finished} />: {made} made
        {r.damaged ? `, ${things(r.damaged, 'body is', 'bodies are')} lost` : ''}
      </div>
    );
  return (
    <div className="small">
      <State kind="wait">
        repair: {size(r.bytes)} of {size(r.of)} read, {made} made
      </State>
    </div>
  );
}

const read = (t: Tier) =>
  t.restore ? `restored in ${span(t.restore.seconds)}, for ${things(t.restore.days, 'day')}` : 'at once';

/** The directories of the tiers, with their room. */
function Volumes({ tiers }: { tiers: Tier[] }) {
  const rows = tiers.flatMap((t) => (t.volumes ?? []).map((v) => ({ ...v, tier: t.name })));
  return (
    <div className="mt-22">
      <Section title="Volumes" aside="each is known by its marker file; one that is away is never mistaken for loss">
        <Listing
          rows={rows}
          id={(v) => v.dir}
          columns={[
            { head: 'Directory or bucket', cell: (v) => v.dir, className: 'key cut max-w-420', title: (v) => v.dir },
            { head: 'Tier', cell: (v) => v.tier },
            {
              head: 'Used',
              cell: (v) =>
                v.total ? (
                  <div
                    className="split w-180"
                    role="img"
                    aria-label={`${size(v.total - v.free)} of ${size(v.total)} used`}
                  >
                    <i className="u-cur" style={{ width: `${(100 * (v.total - v.free)) / v.total}%` }} />
                    <i className="flex-1 border-b-[1.5px] border-dotted border-b-edge h-[7.5px]" />
                  </div>
                ) : v.elsewhere ? (
                  <span className="dim">another store</span>
                ) : null,
            },
            { head: 'Free', figure: true, cell: (v) => (v.total ? <Size bytes={v.free} /> : null) },
            { head: 'Of', figure: true, cell: (v) => (v.total ? <Size bytes={v.total} /> : null) },
            {
              head: 'State',
              cell: (v) => (v.away ? <State kind="wrong">{v.away}</State> : <State kind="good">there</State>),
            },
          ]}
        />
      </Section>
    </div>
  );
}

/** Adds a tier, or changes one. */
function TierForm({ tier, onClose }: { tier?: Tier; onClose: () => void }) {
  const toast = useToast();
  const [f, setF] = useState({
    name: tier?.name ?? '',
    note: tier?.note ?? '',
    volumes: '',
    copies: tier?.pieces ?? String(tier?.copies ?? 1),
    without: '',
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
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
  const main = tier?.name === 'main';
  const restore = f.hours.trim() ? { seconds: Math.round(Number(f.hours) * 3600), days: Number(f.days) } : undefined;
  const body = {
    note: f.note,
    price: Number(f.price || 0),
    requests: Number(f.requests || 0),
    shortestStay: Number(f.stay || 0),
    ...(main
      ? {}
      : {
          volumes: named,
          ...(f.copies.includes('+') ? { pieces: f.copies.trim() } : { copies: Number(f.copies), pieces: 'none' }),
          ...(f.without ? { without: [f.without] } : {}),
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
  return (
    <Ask
      title={tier ? `The tier ${tier.name}` : 'Add a tier'}
      act={tier ? 'Save' : 'Add it'}
      busy={save.isPending}
      ready={!!f.name}
      error={aboutNone(e, 'name', 'volumes', 'copies', 'pieces', 'price')}
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
      {tier ? null : (
        <Field label="Name" value={f.name} onChange={set('name')} name="name" autoFocus error={about(e, 'name')} />
      )}
      <Field label="What it is" value={f.note} onChange={set('note')} name="note" placeholder="cheap disks" />
      <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
        <Field label="GiB and month" value={f.price} onChange={set('price')} name="price" error={about(e, 'price')} />
        <Field label="1,000 requests" value={f.requests} onChange={set('requests')} name="requests" />
        <Field label="Shortest stay, days" value={f.stay} onChange={set('stay')} name="stay" />
      </div>
      {main ? null : (
        <>
          {tier?.elsewhere ? null : (
            <Field
              label={tier ? 'Further directories' : 'Directories on the service’s machine, or a bucket at an endpoint'}
              mono
              value={f.volumes}
              onChange={set('volumes')}
              name="volumes"
              placeholder={tier ? '/mnt/slow1/spindle' : '/mnt/slow1/spindle or @lowland-annex/bodies'}
              error={about(e, 'volumes')}
              hint={
                elsewhere
                  ? 'The bucket is empty, and keeps bodies only: names, versions and history stay here.'
                  : 'Empty ones, or such as are not there yet; each on a disk of its own.'
              }
            />
          )}
          <div className="grid grid-cols-[1fr_1fr_1fr] gap-12">
            <Field
              label="Copies, or 4+2 pieces"
              value={f.copies}
              onChange={set('copies')}
              name="copies"
              disabled={elsewhere}
              error={about(e, 'copies') ?? about(e, 'pieces')}
            />
            <Field
              label="Restored first, hours"
              value={f.hours}
              onChange={set('hours')}
              name="hours"
              placeholder="read at once"
            />
            <Field label="Restored for, days" value={f.days} onChange={set('days')} name="days" />
          </div>
          {tier?.losses ? (
            <div>
              <label className="label" htmlFor="tier-without">
                Take a volume out
              </label>
              <Select
                id="tier-without"
                value={f.without}
                onChange={(without) => setF({ ...f, without })}
                options={[['', 'none'] as const, ...(tier.volumes ?? []).map((v) => [v.dir, v.dir] as const)]}
              />
              {f.without ? <p className="small dim mt-4">What was on it is made anew on the others.</p> : null}
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
            <Switch on={f.packed} onChange={(v) => setF({ ...f, packed: v })}>
              Compressed
            </Switch>
            <Switch on={sealed ?? false} onChange={(v) => setF({ ...f, sealed: v })}>
              Encrypted at rest
            </Switch>
          </div>
        </>
      )}
    </Ask>
  );
}
