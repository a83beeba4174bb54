import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';

import { api, ask } from '../../api/client';
import { type Replication, useFaults, useReplication, useWaiting } from '../../data/replication';
import { useChange, unreadable } from '../../data/queries';
import { Complaint, Section, Size, Trouble, When } from '../../parts/Bits';
import { Columns } from '../../parts/Columns';
import { Ask, Confirm } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { useToast } from '../../parts/Toasts';
import { count, objectPage, size, things, visible } from '../../parts/format';
import { CheckDialog } from '../endpoints/EndpointDialog';
import { LagChart } from './LagChart';
import { TargetFacts } from './RuleFacts';
import { RuleForm } from './RuleForm';
import { Settle } from './Settle';
import { VerifyDialog } from './VerifyDialog';
import { ruleShape, since } from './states';

type Asking = 'settle' | 'change' | 'remove' | 'backfill' | 'verify' | 'check' | null;

/** A replication rule, live: how it stands, why things wait, and what can be done. */
export default function ReplicationPage() {
  const { rule = '' } = useParams();
  const r = useReplication(rule);
  const faults = useFaults(rule);
  const toast = useToast();
  const [asking, setAsking] = useState<Asking>(null);
  const at = { params: { path: { rule } } };
  const turn = useChange((on: boolean) => ask(api.PATCH('/api/v1/replications/{rule}', { ...at, body: { on } })));
  const retry = useChange(() => ask(api.POST('/api/v1/replications/{rule}/retry', { ...at, body: {} })));
  if (unreadable(r)) return <Trouble error={r.error} />;
  if (!r.data) return <p className="faint">Reading</p>;
  const d = r.data;
  const undecided = faults.data?.some((f) => f.code === 'newer-there');
  const failed = d.targets.reduce((n, t) => n + t.failed, 0);
  const close = () => setAsking(null);
  const endpoint = d.targets.find((t) => t.endpoint)?.endpoint;
  return (
    <>
      <nav aria-label="Where it is">
        <Link to="/replication">Thread map</Link> <span className="faint">/</span>{' '}
        <Link to={`/buckets/${d.bucket}`}>{d.bucket}</Link>
      </nav>
      <div className="pagehead">
        <div>
          <h1>{d.name}</h1>
          <p className="meta max-w-720">
            <State kind={ruleShape[d.state] ?? 'none'}>{d.state}</State>
            <span>{d.says}</span>
          </p>
        </div>
        <div className="row">
          {failed ? (
            <button
              type="button"
              className="btn main"
              disabled={retry.isPending}
              onClick={() =>
                retry.mutate(undefined, { onSuccess: (x) => toast(`${things(x.retried, 'object')} tried now`) })
              }
            >
              Retry {count(failed)}
            </button>
          ) : null}
          {undecided ? (
            <button type="button" className="btn" onClick={() => setAsking('settle')}>
              Decide
            </button>
          ) : null}
          {endpoint ? (
            <button type="button" className="btn" onClick={() => setAsking('check')}>
              Check endpoint
            </button>
          ) : null}
          <button type="button" className="btn" onClick={() => setAsking('verify')}>
            Verify
          </button>
          <button type="button" className="btn" onClick={() => setAsking('backfill')}>
            Backfill
          </button>
          <button type="button" className="btn" onClick={() => setAsking('change')}>
            Change
          </button>
          <button type="button" className="btn" disabled={turn.isPending} onClick={() => turn.mutate(!d.on)}>
            {d.on ? 'Pause' : 'Resume'}
          </button>
          <button type="button" className="btn harm" onClick={() => setAsking('remove')}>
            Remove
          </button>
        </div>
      </div>
      {turn.error ? <Complaint error={turn.error} /> : null}
      {retry.error ? <Complaint error={retry.error} /> : null}
      <Columns>
        <div className="grid gap-14 content-start">
          <Section title="How long changes waited" aside="by minute, the last 3 hours">
            <LagChart rule={d} />
          </Section>
          <WaitingList rule={d} />
        </div>
        <div className="grid gap-14 content-start">
          {d.targets.map((t) => (
            <Section key={t.id} title={t.endpoint ?? t.bucket}>
              <TargetFacts rule={d} t={t} />
            </Section>
          ))}
          <Reasons rule={d.name} />
        </div>
      </Columns>
      {asking === 'change' ? <RuleForm rule={d} onClose={close} /> : null}
      {asking === 'settle' ? <Settle rule={d.name} onClose={close} /> : null}
      {asking === 'verify' ? <VerifyDialog rule={d.name} onClose={close} /> : null}
      {asking === 'check' && endpoint ? <CheckDialog endpoint={endpoint} onClose={close} /> : null}
      {asking === 'backfill' ? <Backfill rule={d} onClose={close} /> : null}
      {asking === 'remove' ? <RemoveRule rule={d} onClose={close} /> : null}
    </>
  );
}

/** Why copies fail, counted. */
function Reasons({ rule }: { rule: string }) {
  const faults = useFaults(rule);
  if (!faults.data?.length) return null;
  return (
    <Section title="Failures, by reason">
      {faults.data.map((f) => (
        <p key={f.target + f.code} className="row justify-between py-5 border-b border-b-hairline">
          <span className="wrap-any">{f.says}</span>
          <b className="strong">{count(f.count)}</b>
        </p>
      ))}
    </Section>
  );
}

/** What waits, with why and when it is tried next. */
function WaitingList({ rule }: { rule: Replication }) {
  const list = useWaiting(rule.name, false);
  const rows = list.data?.pages.flatMap((p) => p.waiting) ?? [];
  return (
    <Section title="Waiting" aside="nothing is lost: it is kept and caught up by itself">
      <Listing
        rows={rows}
        id={(w) => w.target + w.key}
        list={list}
        empty={<p className="faint py-6">Nothing waits: every change is copied.</p>}
        columns={[
          {
            head: 'Key',
            className: 'key cut max-w-360',
            title: (w) => visible(w.key),
            cell: (w) => <Link to={objectPage(rule.bucket, w.key)}>{visible(w.key)}</Link>,
          },
          { head: 'Size', figure: true, cell: (w) => <Size bytes={w.bytes} /> },
          { head: 'Waits', figure: true, cell: (w) => (w.since ? since(w.since) : '') },
          { head: 'Tries', figure: true, cell: (w) => (w.attempts ? count(w.attempts) : '') },
          { head: 'Next', cell: (w) => (w.next ? <When at={w.next} /> : null) },
          { head: 'Why', cell: (w) => w.says, className: 'dim wrap-any' },
        ]}
      />
    </Section>
  );
}

function Backfill({ rule, onClose }: { rule: Replication; onClose: () => void }) {
  const toast = useToast();
  const at = { params: { path: { rule: rule.name } } };
  const plan = useChange(() =>
    ask(api.POST('/api/v1/replications/{rule}/backfill', { ...at, body: { rehearse: true } })),
  );
  const start = useChange(() => ask(api.POST('/api/v1/replications/{rule}/backfill', { ...at, body: {} })));
  const { mutate, data, isPending } = plan;
  if (!data && !isPending && !plan.error) mutate(undefined);
  return (
    <Ask
      title="Copy what was there before?"
      act="Copy it"
      busy={start.isPending || !data}
      error={plan.error ?? start.error}
      onClose={onClose}
      onAct={() =>
        start.mutate(undefined, {
          onSuccess: () => {
            toast('The backfill is under way');
            onClose();
          },
        })
      }
    >
      {data ? (
        data.existing.map((x) => (
          <p key={x.target}>
            <b className="strong">
              {things(x.objects, 'object')}, {size(x.bytes)}
            </b>{' '}
            go to <span className="key">{x.target}</span>.
          </p>
        ))
      ) : (
        <p className="faint">Counting</p>
      )}
    </Ask>
  );
}

function RemoveRule({ rule, onClose }: { rule: Replication; onClose: () => void }) {
  const navigate = useNavigate();
  return (
    <Confirm
      title={`Remove the rule ${rule.name}?`}
      done={`The rule ${rule.name} is removed`}
      run={() => ask(api.DELETE('/api/v1/replications/{rule}', { params: { path: { rule: rule.name } } }))}
      onDone={() => void navigate('/replication')}
      onClose={onClose}
    >
      <p>
        Copies stay where they are; what is known of them here is forgotten. What still waits,{' '}
        {things(
          rule.targets.reduce((n, t) => n + t.waiting, 0),
          'object',
        )}
        , is not copied any more.
      </p>
    </Confirm>
  );
}
