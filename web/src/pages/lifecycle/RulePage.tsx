import { useMemo, useState } from 'react';
import { useParams } from 'react-router';

import { Problem, type Schemas } from '../../api/client';
import { type Rule, type Tier, useAges, useComplaints, useRehearsal, useRules, useTiers } from '../../data/lifecycle';
import { useBucket } from '../../data/queries';
import { useSettled } from '../../data/settled';
import { NotOffered } from '../../parts/Allowed';
import { Section, Trouble } from '../../parts/Bits';
import { parseSize, size, things } from '../../parts/format';
import { AgeRuler, type Post } from './AgeRuler';
import { ConflictsAndSamples, Consequences } from './Consequences';
import { ActionLines, ScopeFields, type ScopeText, matchedText } from './RuleForm';
import { TierSwatch } from './TierSwatch';
import { type Line, actionsOf, linesOf, listOf, tagsOf, tagsText } from './draft';
import { RuleHead } from './RuleHead';
import { useUnsaved } from '../../parts/Unsaved';

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
  if (rule === 'new' && !b.data.rights.includes('settings'))
    return (
      <NotOffered>
        Who adds rules to {bucket} administers its account, or has a grant to administer the bucket.
      </NotOffered>
    );
  return <Found key={rule} b={b.data} rules={rules.data} name={rule} tiers={tiers.data} />;
}

/** The rule of that name; a form that is filled in stays, though the rule is removed meanwhile. */
function Found({ name, ...rest }: Omit<Props, 'rule'> & { name: string }) {
  const there = rest.rules.rules.find((r) => r.name === name);
  const [known] = useState(!!there || name === 'new');
  if (!known)
    return (
      <Trouble
        error={
          new Problem(
            404,
            `The bucket ${rest.b.name} has no rule ${name}`,
            'rule-missing',
            'rule',
            'Look at its lifecycle',
          )
        }
      />
    );
  return <Editor rule={there} {...rest} />;
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
  const [first] = useState(draft);
  useUnsaved(JSON.stringify(draft) !== JSON.stringify(first));
  const settled = useSettled(draft, 250);
  const complaints = useComplaints(b.name, [settled]);
  const wrong = (complaints.data ?? []).filter((c) => !(c.field === 'actions' && !settled.actions.length && !rule));
  const good = complaints.data?.length === 0;
  const ages = useAges(b.name, good ? (settled.scope ?? {}) : (from.scope ?? {}));
  const rehearsal = useRehearsal(b.name, [settled], good, ahead);
  const mine = rehearsal.data?.actions.filter((a) => a.rule === settled.name) ?? [];
  return (
    <>
      <RuleHead {...{ b, rules, rule, draft, name, setName, on, setOn }} wrong={complaints.data ?? []} />
      <div className="columns grid grid-cols-[326px_minmax(0,1fr)] gap-x-30 gap-y-14">
        <div className="grid gap-16 content-start">
          <ScopeFields scope={scope} onChange={setScope} complaints={wrong} matched={matchedText(ages.data)} />
          <ActionLines lines={lines} tiers={tiers} versioning={b.versioning} onChange={setLines} complaints={wrong} />
        </div>
        <div className="min-w-0">
          <Section title="Age ruler" aside={`drag a post; shaded: in ${ahead} days`} end={<Legend tiers={tiers} />}>
            <AgeRuler bars={ages.data ?? []} tiers={tiers} ahead={ahead} posts={posts(lines, setLines, mine, wrong)} />
          </Section>
          {rehearsal.data && mine.length ? (
            <>
              <Consequences forecast={rehearsal.data} rule={settled.name} />
              <ConflictsAndSamples forecast={rehearsal.data} rule={settled.name} />
            </>
          ) : (
            <p className="empty faint">
              {good ? 'Switch on what the rule is to do.' : 'The forecast appears once the rule has no faults.'}
            </p>
          )}
        </div>
      </div>
    </>
  );
}

const Legend = ({ tiers }: { tiers: Tier[] }) => (
  <span className="row flex-wrap justify-end gap-x-8 whitespace-nowrap">
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
