import { useMoney, unreadable } from '../../data/queries';
import { ToggleGroup } from 'radix-ui';
import { Link, useSearchParams } from 'react-router';

import { useSession } from '../../data/session';
import { type BucketUsage, useAccountUsage, useTraffic, useUsage } from '../../data/usage';
import { Section, Size, Trouble } from '../../parts/Bits';
import { Choice } from '../../parts/Form';
import { Growth } from '../../parts/Growth';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count, date, size, things } from '../../parts/format';

const spans = [
  { days: 30, name: '30 days' },
  { days: 90, name: '90 days' },
  { days: 365, name: 'a year' },
];

const since = (days: number) => new Date(Date.now() - days * 864e5).toISOString().slice(0, 10);

/** What is kept, how it grows, what it costs, and who asks for it. */
export default function Usage() {
  const [query, setQuery] = useSearchParams();
  const days = Number(query.get('days') ?? 90);
  const by = (query.get('by') ?? 'bucket') as 'bucket' | 'who' | 'day';
  const from = since(days);
  const u = useUsage(from);
  const money = useMoney();
  const session = useSession();
  const put = (name: string, value: string) =>
    setQuery({ ...Object.fromEntries(query), [name]: value }, { replace: true });
  if (unreadable(u)) return <Trouble error={u.error} />;
  if (!u.data) return <p className="faint">Reading</p>;
  const t = u.data.total;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Usage</h1>
          <p className="meta">
            <span>the account {session.account}</span>
            <span>{things(t.now.objects, 'object')}</span>
            <span>{size(t.now.bytes)} current</span>
            <span>{size(t.now.previousBytes)} previous</span>
            {t.unfinished ? <span>{size(t.unfinished)} unfinished</span> : null}
            <span>{money(t.cost)} a month</span>
            <span>{more(t.perDay)} a day</span>
          </p>
        </div>
        <ToggleGroup.Root
          type="single"
          className="seg low"
          value={String(days)}
          onValueChange={(v) => v && put('days', v)}
          aria-label="Span"
        >
          {spans.map((s) => (
            <ToggleGroup.Item key={s.days} value={String(s.days)}>
              {s.name}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
      </div>
      <div className="grid gap-20">
        <Section title="Over time" aside="current and previous versions, by day (UTC)">
          <div className="pt-8">
            <Growth points={u.data.days} width={1060} height={220} />
          </div>
          {u.data.disk ? (
            <p className="dim mt-4">
              The disk has {size(u.data.disk.free)} free of {size(u.data.disk.total)}
              {u.data.disk.fullOn ? `, and is full on ${date(new Date(u.data.disk.fullOn))} if it goes on so` : ''}.
            </p>
          ) : null}
        </Section>
        <Section title="By bucket" aside="a day: by the last 30 days; costs by the prices of tiers">
          <Buckets list={u.data.buckets} />
        </Section>
        <Section title="By tier">
          <Listing
            rows={t.tiers ?? []}
            id={(x) => x.tier}
            empty={<p className="empty faint">Nothing is kept yet.</p>}
            columns={[
              { head: 'Tier', cell: (x) => <b className="strong">{x.tier}</b> },
              { head: 'Size', figure: true, cell: (x) => <Size bytes={x.bytes} /> },
              { head: 'A month', figure: true, cell: (x) => money(x.cost) },
            ]}
          />
        </Section>
        <Accounts from={from} />
        <Requests from={from} by={by} onBy={(v) => put('by', v)} />
      </div>
    </>
  );
}

function Buckets({ list }: { list: BucketUsage[] }) {
  const money = useMoney();
  return (
    <Listing
      rows={list}
      id={(b) => b.bucket ?? ''}
      empty={<p className="empty faint">There is no bucket yet.</p>}
      columns={[
        { head: 'Bucket', cell: (b) => <Link to={`/buckets/${b.bucket}/usage`}>{b.bucket}</Link> },
        { head: 'Objects', figure: true, cell: (b) => count(b.now.objects) },
        { head: 'Current', figure: true, cell: (b) => <Size bytes={b.now.bytes} /> },
        {
          head: 'Previous',
          figure: true,
          cell: (b) => (b.now.previousBytes ? <Size bytes={b.now.previousBytes} /> : null),
        },
        { head: 'Unfinished', figure: true, cell: (b) => (b.unfinished ? <Size bytes={b.unfinished} /> : null) },
        { head: 'A month', figure: true, cell: (b) => money(b.cost) },
        { head: 'Added', figure: true, cell: (b) => more(b.added) },
        { head: 'A day', figure: true, cell: (b) => more(b.perDay) },
        { head: 'Quota', figure: true, cell: (b) => (b.quota ? <Size bytes={b.quota} /> : null) },
        { head: 'Full on', cell: (b) => (b.fullOn ? <State kind="warn">{date(new Date(b.fullOn))}</State> : null) },
      ]}
    />
  );
}

/** What each account keeps; for operators. */
function Accounts({ from }: { from: string }) {
  const money = useMoney();
  const session = useSession();
  const list = useAccountUsage(from, session.operator);
  if (!list.data) return null;
  return (
    <Section title="By account" aside="all of the service, for operators">
      <Listing
        rows={list.data}
        id={(a) => a.account}
        columns={[
          { head: 'Account', cell: (a) => <b className="strong">{a.account}</b> },
          { head: 'Buckets', figure: true, cell: (a) => count(a.buckets) },
          { head: 'Objects', figure: true, cell: (a) => count(a.now.objects) },
          { head: 'Current', figure: true, cell: (a) => <Size bytes={a.now.bytes} /> },
          { head: 'Previous', figure: true, cell: (a) => <Size bytes={a.now.previousBytes} /> },
          { head: 'Unfinished', figure: true, cell: (a) => (a.unfinished ? <Size bytes={a.unfinished} /> : null) },
          { head: 'A month', figure: true, cell: (a) => money(a.cost) },
          { head: 'Added', figure: true, cell: (a) => more(a.added) },
          { head: 'A day', figure: true, cell: (a) => more(a.perDay) },
        ]}
      />
    </Section>
  );
}

function Requests({ from, by, onBy }: { from: string; by: 'bucket' | 'who' | 'day'; onBy: (by: string) => void }) {
  const t = useTraffic(from, by);
  return (
    <Section title="Requests" aside="of the wire; those of this console are not counted">
      <div className="pt-8 mb-8">
        <Choice
          label="By"
          value={by}
          onChange={onBy}
          width={200}
          options={[
            ['bucket', 'bucket'],
            ['who', 'who asked'],
            ['day', 'day'],
          ]}
        />
      </div>
      {t.error ? <Trouble error={t.error} /> : null}
      <Listing
        rows={t.data ?? []}
        id={(x) => x.of}
        empty={t.data ? <p className="empty faint">Nobody asked for anything in these days.</p> : undefined}
        columns={[
          { head: by === 'who' ? 'Who' : by === 'day' ? 'Day' : 'Bucket', cell: (x) => x.of },
          { head: 'Reads', figure: true, cell: (x) => count(x.reads) },
          { head: 'Writes', figure: true, cell: (x) => count(x.writes) },
          { head: 'Lists', figure: true, cell: (x) => count(x.lists) },
          { head: 'Others', figure: true, cell: (x) => count(x.others) },
          { head: 'Failed', figure: true, cell: (x) => (x.failed ? count(x.failed) : null) },
          { head: 'In', figure: true, cell: (x) => <Size bytes={x.in} /> },
          { head: 'Out', figure: true, cell: (x) => <Size bytes={x.out} /> },
        ]}
      />
    </Section>
  );
}

const more = (n: number) => (n < 0 ? `−${size(Math.round(-n))}` : `+${size(Math.round(n))}`);
