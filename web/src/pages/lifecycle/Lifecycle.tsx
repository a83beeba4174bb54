import { useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useRehearsal, useRules } from '../../data/lifecycle';
import { useChange, unreadable } from '../../data/queries';
import { Complaint, Section, Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { size, things } from '../../parts/format';
import { ConflictsAndSamples, Consequences } from './Consequences';
import { History } from './History';
import { Runs } from './Runs';

/** The rules of a bucket: what each did last and does next, and the record of their runs. */
export function Lifecycle({ b }: { b: Schemas['BucketInfo'] }) {
  const rules = useRules(b.name);
  const acts = rules.data?.rules.some((r) => !r.off) ?? false;
  const rehearsal = useRehearsal(b.name, [], acts);
  const [past, setPast] = useState(false);
  if (unreadable(rules)) return <Trouble error={rules.error} />;
  if (!rules.data) return <p className="faint">Reading</p>;
  const may = b.rights.includes('settings');
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-22">
      <Section
        title="Rules"
        aside={rules.data.revision ? `revision ${rules.data.revision}` : ''}
        end={
          <span className="row">
            {rules.data.revision ? (
              <button type="button" className="btn low" onClick={() => setPast(true)}>
                Earlier forms
              </button>
            ) : null}
            {may ? (
              <Link className="btn main no-underline" to={`/buckets/${b.name}/lifecycle/new`}>
                Add a rule
              </Link>
            ) : null}
          </span>
        }
      >
        {rules.data.acts ? (
          <p className="note mt-8">
            What is new waits until <When at={rules.data.acts} />. Until then it can be taken back: see the earlier
            forms.
          </p>
        ) : null}
        {rules.data.rules.length ? (
          <RuleList b={b} rules={rules.data} forecast={rehearsal.data} />
        ) : (
          <Offer b={b} may={may} />
        )}
      </Section>
      {rehearsal.data && acts ? (
        <Section title="What is to come" aside={`on the real catalog, ${rehearsal.data.days} days ahead`}>
          <Consequences forecast={rehearsal.data} />
          <ConflictsAndSamples forecast={rehearsal.data} />
        </Section>
      ) : null}
      <Runs b={b} acts={acts} />
      {past ? <History bucket={b.name} may={may} onClose={() => setPast(false)} /> : null}
    </div>
  );
}

interface ListProps {
  b: Schemas['BucketInfo'];
  rules: Schemas['Rules'];
  forecast?: Schemas['ForecastInfo'];
}

function RuleList({ b, rules, forecast }: ListProps) {
  const next = (name: string) =>
    forecast?.actions
      .filter((a) => a.rule === name && (a.objects || a.next))
      .sort((x, y) => (x.next ?? '').localeCompare(y.next ?? ''))[0];
  return (
    <Listing
      rows={rules.rules}
      id={(r) => r.name}
      columns={[
        {
          head: 'Rule',
          cell: (r) => (
            <Link className="strong" to={`/buckets/${b.name}/lifecycle/${encodeURIComponent(r.name)}`}>
              {r.name}
            </Link>
          ),
        },
        { head: 'State', cell: (r) => <State kind={r.off ? 'off' : 'good'}>{r.off ? 'off' : 'on'}</State> },
        { head: 'Of what', cell: (r) => scopeWords(r.scope), className: 'key cut max-w-250' },
        { head: 'Does', cell: (r) => r.actions.map(actionWords).join('; '), className: 'dim whitespace-normal' },
        {
          head: 'Did last',
          cell: (r) =>
            (r.did ?? [])
              .map((d) => `${d.do === 'move' ? `to ${d.to}` : 'removed'} ${things(d.objects, 'object')}`)
              .join(', '),
          className: 'dim whitespace-normal',
        },
        {
          head: 'Does next',
          figure: true,
          cell: (r) => {
            const n = next(r.name);
            return n ? n.objects ? things(n.objects, 'object') + ' now' : <When at={n.next!} /> : null;
          },
          className: 'dim',
        },
      ]}
    />
  );
}

const actionWords = (a: Schemas['ActionForm']) => {
  const when = a.date ? `from ${a.date}` : `${a.days} d`;
  const keep = a.keep ? `, ${a.keep} newest kept` : '';
  if (a.do === 'move') return `${a.of === 'previous' ? 'previous ' : ''}to ${a.to} at ${when}`;
  if (a.of === 'uploads') return `uploads abandoned at ${when}`;
  return `${a.of} removed at ${when}${keep}`;
};

export const scopeWords = (s: Schemas['ScopeForm'] = {}) =>
  [
    s.prefix,
    s.like?.length ? `like ${s.like.join(' or ')}` : '',
    s.leaveOut?.length ? `not like ${s.leaveOut.join(' or ')}` : '',
    ...Object.entries(s.tags ?? {}).map(([n, v]) => `${n} = ${v}`),
    s.sizeFrom ? `from ${size(s.sizeFrom)}` : '',
    s.sizeTo ? `to ${size(s.sizeTo)}` : '',
    s.where ? `where ${s.where}` : '',
  ]
    .filter(Boolean)
    .join(', ') || 'all';

/** A bucket without rules is offered the clean-up of unfinished uploads. */
function Offer({ b, may }: { b: Schemas['BucketInfo']; may: boolean }) {
  const toast = useToast();
  const add = useChange(() =>
    ask(
      api.PUT('/api/v1/buckets/{bucket}/lifecycle/rules/{rule}', {
        params: { path: { bucket: b.name, rule: 'unfinished-uploads' } },
        body: {
          new: true,
          rule: { name: 'unfinished-uploads', actions: [{ of: 'uploads', do: 'remove', days: 7 }] },
        },
      }),
    ),
  );
  return (
    <div className="empty">
      <p className="dim">
        No rules yet. They move what ages to cheaper tiers and remove what nobody needs, and say beforehand what they
        would do. A good first one abandons uploads that were left unfinished for 7 days.
      </p>
      {may ? (
        <button
          type="button"
          className="btn mt-8"
          disabled={add.isPending}
          onClick={() => add.mutate(undefined, { onSuccess: () => toast('The rule unfinished-uploads is saved') })}
        >
          Add that one
        </button>
      ) : null}
      {add.error ? <Complaint error={add.error} /> : null}
    </div>
  );
}
