import { useMemo, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { type Problem, type Schemas, api, ask } from '../../api/client';
import { type Rule, type Tier, useAges, useComplaints, useRehearsal, useRules, useTiers } from '../../data/lifecycle';
import { useBucket, useChange } from '../../data/queries';
import { useSettled } from '../../data/settled';
import { Complaint, Section, Trouble } from '../../parts/Bits';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { bucketPage, parseSize, size, things } from '../../parts/format';
import { AgeRuler, type Post } from './AgeRuler';
import { ConflictsAndSamples, Consequences } from './Consequences';
import { ActionLines, ScopeFields, type ScopeText, matchedText } from './RuleForm';
import { TierSwatch } from './TierSwatch';
import { type Line, actionsOf, linesOf, listOf, tagsOf, tagsText } from './draft';

const ahead = 90;

/** A rule of a bucket: what it says beside what it would do. */
export default function RulePage() {
  const { bucket = '', rule = '' } = useParams();
  const b = useBucket(bucket);
  const rules = useRules(bucket);
  const tiers = useTiers();
  const error = b.error ?? rules.error ?? tiers.error;
  if (error) return <Trouble error={error} />;
  if (!b.data || !rules.data || !tiers.data) return <p className="faint">Reading</p>;
  const there = rules.data.rules.find((r) => r.name === rule);
  return <Editor key={rule} b={b.data} rules={rules.data} rule={there} tiers={tiers.data} />;
}

const noRule: Rule = { name: '', actions: [] };

interface Props {
  b: Schemas['BucketInfo'];
  rules: Schemas['Rules'];
  rule?: Schemas['RuleInfo'];
  tiers: Tier[];
}

function Editor({ b, rules, rule, tiers }: Props) {
  const from = rule ?? noRule;
  const [name, setName] = useState(rule?.name ?? '');
  const [on, setOn] = useState(!from.off);
  const [scope, setScope] = useState<ScopeText>(() => ({
    prefix: from.scope?.prefix ?? '',
    like: (from.scope?.like ?? []).join(' '),
    leaveOut: (from.scope?.leaveOut ?? []).join(' '),
    tags: tagsText(from.scope?.tags),
    sizeFrom: from.scope?.sizeFrom ? size(from.scope.sizeFrom) : '',
    where: from.scope?.where ?? '',
  }));
  const [lines, setLines] = useState(() => linesOf(from, tiers));
  const draft = useMemo<Rule>(
    () => ({
      name: name || 'new',
      off: !on || undefined,
      scope: {
        ...from.scope,
        prefix: scope.prefix || undefined,
        like: listOf(scope.like),
        leaveOut: listOf(scope.leaveOut),
        tags: tagsOf(scope.tags),
        sizeFrom: scope.sizeFrom.trim() ? (parseSize(scope.sizeFrom) ?? -1) : undefined,
        where: scope.where.trim() || undefined,
      },
      actions: actionsOf(lines),
    }),
    [name, on, scope, lines, from.scope],
  );
  const settled = useSettled(draft, 250);
  const complaints = useComplaints(b.name, [settled]);
  const wrong = (complaints.data ?? []).filter((c) => !(c.field === 'actions' && !settled.actions.length && !rule));
  const good = complaints.data?.length === 0;
  const ages = useAges(b.name, good ? (settled.scope ?? {}) : (from.scope ?? {}));
  const rehearsal = useRehearsal(b.name, [settled], good, ahead);
  const mine = rehearsal.data?.actions.filter((a) => a.rule === settled.name) ?? [];
  return (
    <>
      <Head {...{ b, rules, rule, draft, name, setName, on, setOn }} wrong={complaints.data ?? []} />
      <div className="columns grid grid-cols-[326px_minmax(0,1fr)] gap-x-30 gap-y-14">
        <div className="grid gap-16 content-start">
          <ScopeFields scope={scope} onChange={setScope} complaints={wrong} matched={matchedText(ages.data)} />
          <ActionLines lines={lines} tiers={tiers} versioning={b.versioning} onChange={setLines} complaints={wrong} />
        </div>
        <div className="min-w-0">
          <Section
            title="Age ruler"
            aside={`drag a post; shaded ground crosses in ${ahead} days`}
            end={<Legend tiers={tiers} />}
          >
            <AgeRuler bars={ages.data ?? []} tiers={tiers} ahead={ahead} posts={posts(lines, setLines, mine, wrong)} />
          </Section>
          {rehearsal.data && mine.length ? (
            <>
              <Consequences forecast={rehearsal.data} rule={settled.name} />
              <ConflictsAndSamples forecast={rehearsal.data} rule={settled.name} />
            </>
          ) : (
            <p className="empty faint">
              {good ? 'Switch on what the rule is to do.' : 'What it would do is worked out once nothing is to mend.'}
            </p>
          )}
        </div>
      </div>
    </>
  );
}

const Legend = ({ tiers }: { tiers: Tier[] }) => (
  <span className="row gap-14">
    {tiers.map((t) => (
      <span key={t.name}>
        <TierSwatch tier={t.name} tiers={tiers} />
        {t.name}
      </span>
    ))}
    <span>
      <span className="swatch u-prev" />
      previous
    </span>
  </span>
);

/** The posts of the lines that are on and go by days. */
function posts(
  lines: Line[],
  setLines: (f: (l: Line[]) => Line[]) => void,
  actions: Schemas['ForecastAction'][],
  complaints: Schemas['Complaint'][],
): Post[] {
  const on = lines.filter((l) => l.on);
  return on.flatMap((l, i) => {
    if ((l.of !== 'current' && l.of !== 'previous') || l.when.includes('-') || l.when.trim() === '') return [];
    const a = actions.find((x) => x.of === l.of && x.do === l.do && (x.to ?? '') === (l.to ?? ''));
    const what = l.do === 'move' ? l.to! : 'removed';
    return [
      {
        id: l.id,
        days: Number(l.when) || 0,
        label: `${what} at ${l.when} d${Number(l.keep) ? `, newest ${l.keep} kept` : ''}`,
        below: a ? `${things(a.objects, 'object')}, ${size(a.bytes)} at once` : undefined,
        previous: l.of === 'previous',
        removes: l.do === 'remove',
        bad: complaints.some((c) => c.field?.startsWith(`actions[${i}].`)),
        onDays: (days: number) => setLines((all) => all.map((x) => (x.id === l.id ? { ...x, when: String(days) } : x))),
      },
    ];
  });
}

interface HeadProps {
  b: Schemas['BucketInfo'];
  rules: Schemas['Rules'];
  rule?: Schemas['RuleInfo'];
  draft: Rule;
  name: string;
  setName: (n: string) => void;
  on: boolean;
  setOn: (on: boolean) => void;
  wrong: Schemas['Complaint'][];
}

/** The rule's name, whether it acts, and what is done with the form. */
function Head({ b, rules, rule, draft, name, setName, on, setOn, wrong }: HeadProps) {
  const toast = useToast();
  const navigate = useNavigate();
  const params = { path: { bucket: b.name, rule: rule?.name ?? name } };
  const back = `/buckets/${b.name}/lifecycle`;
  const save = useChange(() =>
    ask(
      api.PUT('/api/v1/buckets/{bucket}/lifecycle/rules/{rule}', {
        params,
        body: { rule: draft, new: !rule, ifRevision: rules.revision || -1 },
      }),
    ),
  );
  const remove = useChange(() =>
    ask(
      api.DELETE('/api/v1/buckets/{bucket}/lifecycle/rules/{rule}', {
        params: { ...params, query: { ifRevision: rules.revision } },
      }),
    ),
  );
  const may = b.rights.includes('settings');
  const nameless = wrong.find((c) => c.field === 'name');
  const shown = wrong.filter((c) => rule || c.code !== 'actions-none').length;
  return (
    <>
      <div className="small faint mb-2">
        <Link className="key" to={bucketPage(b.name)}>
          {b.name}
        </Link>
        , <Link to={back}>lifecycle</Link>
      </div>
      <div className="pagehead">
        <h1 className="row">
          <span className="faint font-medium">Rule</span>
          {rule ? (
            rule.name
          ) : (
            <span className="field w-250">
              <input
                aria-label="Name of the rule"
                value={name}
                onChange={(e) => setName(e.target.value)}
                placeholder="old-plates"
                autoFocus
              />
            </span>
          )}
        </h1>
        <div className="row gap-18">
          {shown ? <span className="text-madder small">{things(shown, 'thing')} to mend</span> : null}
          <Switch on={on} onChange={setOn}>
            {on ? 'on' : 'off'}
          </Switch>
          {rule && may ? (
            <button
              type="button"
              className="btn harm"
              disabled={remove.isPending}
              onClick={() =>
                remove.mutate(undefined, {
                  onSuccess: () => {
                    toast(`The rule ${rule.name} is gone; the history keeps it`);
                    void navigate(back);
                  },
                })
              }
            >
              Remove
            </button>
          ) : null}
          <button type="button" className="btn" onClick={() => void navigate(back)}>
            Discard
          </button>
          {may ? (
            <button
              type="button"
              className="btn main"
              disabled={wrong.length > 0 || !name || save.isPending}
              onClick={() =>
                save.mutate(undefined, {
                  onSuccess: (r) => {
                    toast(r.acts ? 'Saved. It waits ten minutes in which it can be taken back' : 'Saved');
                    void navigate(back);
                  },
                })
              }
            >
              Save rule
            </button>
          ) : null}
        </div>
      </div>
      {nameless && name ? <Complaint error={{ message: nameless.detail, remedy: nameless.remedy }} /> : null}
      {save.error || remove.error ? <Complaint error={(save.error ?? remove.error) as Problem} /> : null}
    </>
  );
}
