import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useAccounts } from '../../data/access';
import { useTiers } from '../../data/lifecycle';
import { type Placement, usePlacements } from '../../data/placements';
import { useChange } from '../../data/queries';
import { useSession } from '../../data/session';
import { Complaint, Field, Section, Trouble } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Ask, about, aboutNone } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { Select } from '../../parts/Select';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { count, things } from '../../parts/format';

/** The placements: how bytes are kept, to whom that is offered, and what is fixed for whom. */
export default function Placements() {
  const session = useSession();
  const list = usePlacements();
  const [form, setForm] = useState<Placement | 'new' | null>(null);
  if (list.error && !list.data) return <Trouble error={list.error} />;
  const rows = list.data?.placements ?? [];
  return (
    <>
      <div className="pagehead">
        <h1>Placements</h1>
        {session.operator ? (
          <button type="button" className="btn main" onClick={() => setForm('new')}>
            Add a placement
          </button>
        ) : null}
      </div>
      <p className="dim mb-14 max-w-720">
        A placement says how the bytes of a bucket are kept: in which tier, in how many copies or pieces, encrypted or
        not. Whoever makes a bucket chooses from those that the account is offered.
      </p>
      {list.data?.fixed && !session.operator ? (
        <p className="mb-14">
          All buckets of {session.account} have <b className="strong">{list.data.default}</b>:{' '}
          <span className="key">{list.data.fixedBy}</span> fixed it.
        </p>
      ) : null}
      <Listing
        rows={rows}
        id={(p) => p.name}
        empty={
          <div className="empty">
            <b className="strong">No placement is offered.</b>
            <p className="dim">Buckets name a tier, or none.</p>
          </div>
        }
        columns={[
          {
            head: 'Placement',
            cell: (p) => (
              <>
                <b className="strong">{p.name}</b>
                {p.default ? <span className="faint"> default</span> : null}
                {p.note ? <div className="small faint">{p.note}</div> : null}
              </>
            ),
          },
          {
            head: 'Kept',
            cell: (p) => (
              <>
                {p.keeps}
                <div className="small faint">in the tier {p.tier}</div>
              </>
            ),
          },
          {
            head: 'May lose',
            figure: true,
            cell: (p) => (p.losses ? things(p.losses, 'volume') : <span className="dim">none</span>),
          },
          { head: 'Takes', figure: true, cell: (p) => `${p.overhead.toFixed(2)} ×`, className: 'dim' },
          { head: 'GiB and month', figure: true, cell: (p) => p.price },
          {
            head: 'What it cannot',
            cell: (p) => (
              <div className="small dim w-220 whitespace-normal">
                {(p.limits ?? []).join(' ') || 'nothing beside what others can'}
              </div>
            ),
          },
          ...(session.operator
            ? [
                { head: 'Offered to', cell: (p: Placement) => offeredTo(p) },
                { head: 'Buckets', figure: true, cell: (p: Placement) => count(p.buckets ?? 0) },
                {
                  figure: true,
                  cell: (p: Placement) => (
                    <button type="button" className="btn low" onClick={() => setForm(p)}>
                      Change
                    </button>
                  ),
                },
              ]
            : []),
        ]}
      />
      {session.operator ? <Defaults placements={rows} /> : null}
      {form ? <PlacementForm placement={form === 'new' ? undefined : form} onClose={() => setForm(null)} /> : null}
    </>
  );
}

const offeredTo = (p: Placement) =>
  p.everyone ? 'everyone' : (p.accounts ?? []).join(', ') || <span className="faint">nobody</span>;

/** What buckets of each account get, and whether the account may choose. */
function Defaults({ placements }: { placements: Placement[] }) {
  const toast = useToast();
  const accounts = useAccounts().data?.pages.flatMap((p) => p.accounts) ?? [];
  const change = useChange((c: { name: string; placement?: string; placementFixed?: boolean }) =>
    ask(
      api.PATCH('/api/v1/accounts/{account}', {
        params: { path: { account: c.name } },
        body: { placement: c.placement, placementFixed: c.placementFixed },
      }),
    ),
  );
  return (
    <div className="mt-22">
      <Section title="Accounts" aside="what their buckets have that name none, or all of them">
        {change.error ? <Complaint error={change.error} /> : null}
        <Listing
          rows={accounts}
          id={(a) => a.name}
          columns={[
            { head: 'Account', cell: (a) => <b className="strong">{a.name}</b> },
            {
              head: 'Buckets get',
              cell: (a) => (
                <Select
                  label={`What buckets of ${a.name} get`}
                  className="field sel w-240"
                  value={a.placement ?? ''}
                  onChange={(placement) =>
                    change.mutate(
                      {
                        name: a.name,
                        placement: placement || 'none',
                        placementFixed: placement ? a.placementFixed : false,
                      },
                      { onSuccess: () => toast(`Buckets of ${a.name} get ${placement || 'what they name'}`) },
                    )
                  }
                  options={[['', 'what they name'] as const, ...placements.map((p) => [p.name, p.name] as const)]}
                />
              ),
            },
            {
              head: 'Fixed',
              cell: (a) => (
                <Switch
                  on={a.placementFixed ?? false}
                  disabled={!a.placement || change.isPending}
                  onChange={(placementFixed) => change.mutate({ name: a.name, placementFixed })}
                >
                  {a.placementFixed ? `fixed by ${a.placementBy}` : 'the account may choose'}
                </Switch>
              ),
            },
          ]}
        />
      </Section>
    </div>
  );
}

/** Adds a placement, or says to whom one is offered. */
function PlacementForm({ placement: p, onClose }: { placement?: Placement; onClose: () => void }) {
  const toast = useToast();
  const tiers = useTiers().data ?? [];
  const [f, setF] = useState({
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
  const tier = tiers.find((t) => t.name === f.tier);
  return (
    <Ask
      title={p ? `The placement ${p.name}` : 'Add a placement'}
      act={p ? 'Save' : 'Add it'}
      busy={save.isPending}
      ready={!!f.name}
      error={aboutNone(e, 'name', 'accounts', 'note')}
      onClose={onClose}
      onAct={() => save.mutate(undefined, done(`The placement ${f.name} is saved`))}
    >
      {p ? (
        <p className="dim">
          It keeps bodies {p.keeps}, in the tier {p.tier}. That stays, since buckets have it.
        </p>
      ) : (
        <>
          <Field
            label="Name"
            value={f.name}
            onChange={(x) => setF({ ...f, name: x.target.value })}
            name="name"
            autoFocus
            error={about(e, 'name')}
          />
          <div>
            <label className="label" htmlFor="placement-tier">
              Tier
            </label>
            <Select
              id="placement-tier"
              value={f.tier}
              onChange={(t) => setF({ ...f, tier: t })}
              options={tiers.map((t) => [t.name, `${t.name}: ${t.keeps}`] as const)}
            />
            {(tier?.limits ?? []).map((l) => (
              <p key={l} className="small dim mt-4">
                {l}
              </p>
            ))}
          </div>
          <Check on={f.sealing} onChange={(sealing) => setF({ ...f, sealing })} label="Encrypt content at rest">
            Encrypt content at rest, whatever the bucket says
          </Check>
        </>
      )}
      <Field
        label="What it is for"
        value={f.note}
        onChange={(x) => setF({ ...f, note: x.target.value })}
        name="note"
        error={about(e, 'note')}
      />
      <Check on={f.everyone} onChange={(everyone) => setF({ ...f, everyone })} label="Offer it to all accounts">
        Offer it to all accounts
      </Check>
      {f.everyone ? null : (
        <Field
          label="Offer it to these accounts"
          value={f.accounts}
          onChange={(x) => setF({ ...f, accounts: x.target.value })}
          name="accounts"
          placeholder="seed-lab, guests"
          error={about(e, 'accounts')}
        />
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
