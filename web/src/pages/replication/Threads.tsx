import { ToggleGroup } from 'radix-ui';
import { useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import { type Replication, useFaults, useReplications } from '../../data/replication';
import { type Sync, runShape, useSyncs } from '../../data/sync';
import { Section, Size, Trouble } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count, things } from '../../parts/format';
import { JobFacts } from '../sync/JobFacts';
import { TargetFacts } from './RuleFacts';
import { RuleForm } from './RuleForm';
import { ThreadMap } from './ThreadMap';
import { jobChoice, jobStrands, ruleStrands } from './map';
import { ruleShape, since, span } from './states';
import { unreadable } from '../../data/queries';

const several: Record<string, string> = { 'keeps up': 'keep up', 'some fail': 'with failures' };

const rulePage = (name: string) => `/replication/${encodeURIComponent(name)}`;

/** All replication rules: as a map of threads, or as a list. */
export default function Threads() {
  const [query, setQuery] = useSearchParams();
  const [adding, setAdding] = useState(false);
  const rules = useReplications();
  const jobs = useSyncs().data ?? [];
  const view = query.get('view') === 'list' ? 'list' : 'map';
  const set = (name: string, value: string) =>
    setQuery(
      (q) => {
        q.set(name, value);
        return q;
      },
      { replace: true },
    );
  if (unreadable(rules)) return <Trouble error={rules.error} />;
  const all = rules.data ?? [];
  const job = jobs.find((j) => jobChoice(j.name) === query.get('rule'));
  const chosen = job ? undefined : (all.find((r) => r.name === query.get('rule')) ?? worst(all));
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Thread map</h1>
          <p className="meta">
            <span>
              {things(all.length, 'rule')}
              {jobs.length ? `, ${things(jobs.length, 'sync job')}` : ''}
            </span>
            {[...order].reverse().map((s) => {
              const n = all.filter((r) => r.state === s).length;
              return n ? (
                <State key={s} kind={ruleShape[s]!}>
                  {n} {n > 1 ? (several[s] ?? s) : s}
                </State>
              ) : null;
            })}
          </p>
        </div>
        <div className="row">
          <ToggleGroup.Root
            type="single"
            className="seg"
            value={view}
            onValueChange={(v) => v && set('view', v)}
            aria-label="How rules are shown"
          >
            <ToggleGroup.Item value="map">Map</ToggleGroup.Item>
            <ToggleGroup.Item value="list">List</ToggleGroup.Item>
          </ToggleGroup.Root>
          <button type="button" className="btn main" onClick={() => setAdding(true)}>
            New rule
          </button>
        </div>
      </div>
      {rules.data && !all.length && !jobs.length ? (
        <p className="empty faint">
          No rule copies anything yet. A rule keeps objects of a bucket copied to another bucket, here or at an
          endpoint, within seconds and through any outage.
        </p>
      ) : view === 'list' ? (
        <List rules={all} />
      ) : (
        <div className="columns grid grid-cols-[minmax(0,1fr)_320px] gap-x-28 gap-y-14">
          <ThreadMap
            strands={[...ruleStrands(all), ...jobStrands(jobs)]}
            chosen={job ? jobChoice(job.name) : (chosen?.name ?? '')}
            onChoose={(of) => set('rule', of)}
          />
          {job ? <JobPanel job={job} /> : null}
          {chosen ? <Panel rule={chosen} /> : null}
        </div>
      )}
      {adding ? <RuleForm onClose={() => setAdding(false)} /> : null}
    </>
  );
}

const order = [
  'stopped',
  'failing',
  'some fail',
  'late',
  'missed',
  'behind',
  'not yet looked at',
  'keeps up',
  'paused',
];

/** The rule that needs somebody most. */
const worst = (all: Replication[]) => [...all].sort((a, b) => order.indexOf(a.state) - order.indexOf(b.state))[0];

/** What is known of the chosen rule, in short. */
function Panel({ rule }: { rule: Replication }) {
  const faults = useFaults(rule.name);
  return (
    <aside aria-label={`The rule ${rule.name}`}>
      <header className="row justify-between items-baseline">
        <h2>
          <Link to={rulePage(rule.name)}>{rule.name}</Link>
        </h2>
        <State kind={ruleShape[rule.state] ?? 'none'}>{rule.state}</State>
      </header>
      <p className="dim py-6 border-b border-b-hairline">{rule.says}</p>
      {rule.targets.map((t) => (
        <TargetFacts key={t.id} rule={rule} t={t} />
      ))}
      {faults.data?.length ? (
        <Section title="Failures, by reason">
          {faults.data.map((f) => (
            <p key={f.target + f.code} className="row justify-between py-5 border-b border-b-hairline">
              <span className="wrap-any">{f.says}</span>
              <b className="strong">{count(f.count)}</b>
            </p>
          ))}
        </Section>
      ) : null}
      <p className="small faint mt-8">Nothing is lost: what waits is kept and caught up by itself.</p>
      <p className="mt-8">
        <Link className="btn no-underline" to={rulePage(rule.name)}>
          Open the rule
        </Link>
      </p>
    </aside>
  );
}

/** What is known of the chosen job, in short. */
const JobPanel = ({ job }: { job: Sync }) => (
  <aside aria-label={`The job ${job.name}`}>
    <header className="row justify-between items-baseline">
      <h2>
        <Link to={`/sync/${job.name}`}>{job.name}</Link>
      </h2>
      {job.last ? <State kind={runShape[job.last.state]}>{job.last.state}</State> : null}
    </header>
    <p className="dim py-6 border-b border-b-hairline">{job.says}</p>
    <JobFacts d={job} />
    <p className="mt-8">
      <Link className="btn no-underline" to={`/sync/${job.name}`}>
        Open the job
      </Link>
    </p>
  </aside>
);

const List = ({ rules }: { rules: Replication[] }) => (
  <Listing
    rows={rules.flatMap((rule) => rule.targets.map((t) => ({ rule, t })))}
    id={(r) => `${r.rule.name} ${r.t.id}`}
    columns={[
      { head: 'Rule', cell: (r) => <Link to={rulePage(r.rule.name)}>{r.rule.name}</Link> },
      { head: 'State', cell: (r) => <State kind={ruleShape[r.t.state] ?? 'none'}>{r.t.state}</State> },
      { head: 'From', cell: (r) => `${r.rule.bucket}/${r.rule.prefix ?? ''}`, className: 'key' },
      { head: 'To', cell: (r) => r.t.address, className: 'key wrap-any' },
      { head: 'Waiting', figure: true, cell: (r) => count(r.t.waiting) },
      { head: 'Bytes', figure: true, cell: (r) => <Size bytes={r.t.bytes} /> },
      { head: 'Oldest', figure: true, cell: (r) => (r.t.oldest ? since(r.t.oldest) : '') },
      { head: 'Lag, half', figure: true, cell: (r) => (r.t.lag.count ? span(r.t.lag.p50) : '') },
      { head: '99 %', figure: true, cell: (r) => (r.t.lag.count ? span(r.t.lag.p99) : '') },
    ]}
  />
);
