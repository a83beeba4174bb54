import { ToggleGroup } from 'radix-ui';
import { Link, Navigate, useSearchParams } from 'react-router';

import { Problem, type Schemas } from '../../api/client';
import { useOverview } from '../../data/queries';
import { Section, Size, Trouble, When } from '../../parts/Bits';
import { Growth } from '../../parts/Growth';
import { State, type StateKind } from '../../parts/Marks';
import { ago, bucketPage, count, longDate, middle, objectPage, size, things, time, visible } from '../../parts/format';

const spans = [
  { days: 1, name: 'today' },
  { days: 7, name: '7 days' },
  { days: 30, name: '30 days' },
];

export default function Overview() {
  const [query, setQuery] = useSearchParams();
  const days = Number(query.get('days') ?? 7) || 7;
  const o = useOverview(days);
  if (o.error instanceof Problem && o.error.code === 'not-allowed') return <Navigate to="/buckets" replace />; // who sees some buckets only
  if (o.error && !o.data) return <Trouble error={o.error} />;
  if (!o.data) return <p className="faint">Reading</p>;
  const d = o.data;
  const at = new Date(d.at);
  return (
    <>
      <div className="pagehead mb-10">
        <div>
          <h1>{finding(d)}</h1>
          <p className="meta">
            {longDate(at)} <span>{things(d.buckets, 'bucket')}</span>
            <span>{things(d.objects, 'object')}</span>
            <span>{size(d.bytes)}</span>
            {d.unfinished.bytes ? <span>{size(d.unfinished.bytes)} in unfinished uploads</span> : null}
            {d.free !== undefined ? <span>{size(d.free)} free</span> : null}
          </p>
        </div>
        <div className="row">
          <span className="small faint">since</span>
          <ToggleGroup.Root type="single" className="seg low" value={String(days)} onValueChange={(v) => v && setQuery({ days: v }, { replace: true })} aria-label="Span of what changed">
            {spans.map((s) => (
              <ToggleGroup.Item key={s.days} value={String(s.days)}>
                {s.name}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
        </div>
      </div>
      {o.error ? <Trouble error={o.error} /> : null}
      <div className="columns grid grid-cols-[minmax(0,1fr)_384px] gap-y-14 gap-x-28">
        <Section title="Wrong and waiting" aside="worst first">
          <Concerns d={d} />
        </Section>
        <Section title="Growing" aside={grewBy(d)}>
          <div className="pt-8">
            <Growth points={d.growth} width={384} height={196} />
          </div>
        </Section>
      </div>
      <div className="columns grid grid-cols-[minmax(0,1fr)_384px] gap-y-14 gap-x-28 mt-14">
        <Section title="Latest changes" aside={`complete up to ${time(new Date(d.completeUpTo))}`}>
          <Recent entries={d.recent} />
        </Section>
        <Section title="Changed" aside={days === 1 ? 'today, UTC' : `the last ${days} days`}>
          <Changed list={d.changed} />
        </Section>
      </div>
    </>
  );
}

const words = ['Nothing', 'One thing', 'Two things', 'Three things', 'Four things', 'Five things', 'Six things'];

/** The page's title is what was found. */
function finding(d: Schemas['Overview']): string {
  const wrong = d.concerns.filter((c) => c.state === 'wrong').length;
  const wait = d.concerns.length - wrong;
  const n = (k: number) => words[k] ?? `${k} things`;
  if (wrong) return `${n(wrong)} ${wrong === 1 ? 'is' : 'are'} wrong${wait ? `, ${n(wait).toLowerCase()} ${wait === 1 ? 'waits' : 'wait'} for you` : ''}`;
  if (wait) return `${n(wait)} ${wait === 1 ? 'wants' : 'want'} attention, nothing is wrong`;
  return d.buckets ? 'Nothing is wrong' : 'Nothing is stored yet';
}

const kinds: Record<string, [StateKind, string]> = { wrong: ['wrong', 'wrong'], attention: ['warn', 'attention'], waiting: ['wait', 'waiting'] };

function Concerns({ d }: { d: Schemas['Overview'] }) {
  return (
    <table className="open">
      <tbody>
        {d.concerns.map((c) => {
          const [kind, word] = kinds[c.state]!;
          const [bucket, ...rest] = c.subject.split('/');
          return (
            <tr key={c.subject + c.says}>
              <td className="w-92 align-top pt-7">
                <State kind={kind}>{word}</State>
              </td>
              <td className="py-6 px-8">
                <b className={c.page && c.page !== 'uploads' ? 'key strong' : 'strong'}>{middle(visible(c.subject), 60)}</b> {c.says}
                <div className="small dim">{c.detail}</div>
              </td>
              <td className="num align-top pt-6">
                {c.bytes ? size(c.bytes) : c.figure}
                {c.since ? <div className="small dim">since {ago(new Date(c.since))}</div> : null}
              </td>
              <td className="num align-top pt-6">
                {c.page === 'settings' ? <Link to={`/buckets/${bucket}/settings`}>Change quota</Link> : c.page === 'uploads' ? <Link to="/uploads">See them</Link> : c.page === 'object' ? <Link to={objectPage(bucket!, rest.join('/'))}>Show</Link> : null}
              </td>
            </tr>
          );
        })}
        {d.scrubbed && d.collected ? <Upkeep scrubbed={d.scrubbed} collected={d.collected} /> : null}
      </tbody>
    </table>
  );
}

/** What the service does by itself: told to operators. */
function Upkeep({ scrubbed, collected }: { scrubbed: Schemas['Scrubbed']; collected: Schemas['Collected'] }) {
  return (
    <>
      <tr>
        <td className="align-top pt-7">{scrubState(scrubbed)}</td>
        <td className="py-6 px-8">
          <b className="strong">Bodies are read and compared with their digests</b>
          <div className="small dim">{scrubWords(scrubbed)}</div>
        </td>
        <td className="num align-top pt-6">
          {things(scrubbed.bodies, 'body', 'bodies')}
          <div className="small dim">{size(scrubbed.bytes)}</div>
        </td>
        <td />
      </tr>
      <tr>
        <td className="align-top pt-7">
          <State kind="good">in order</State>
        </td>
        <td className="py-6 px-8">
          <b className="strong">Bytes that nothing refers to are collected</b>
          <div className="small dim">{year(collected.lastRun) ? `Last at ${time(new Date(collected.lastRun))}.` : 'It has not run yet.'}</div>
        </td>
        <td className="num align-top pt-6">
          {things(collected.files, 'file')}
          <div className="small dim">{size(collected.bytes)} freed</div>
        </td>
        <td />
      </tr>
    </>
  );
}

/** Whether a moment of the service is one: the zero moment is in the year 1. */
const year = (s: string) => new Date(s).getUTCFullYear() > 1;

const underWay = (s: Schemas['Scrubbed']) => year(s.started) && new Date(s.finished) < new Date(s.started);

function scrubState(s: Schemas['Scrubbed']) {
  if (s.damaged > 0) return <State kind="wrong">damage</State>;
  if (underWay(s)) return <State kind="run">reading</State>;
  return year(s.finished) && s.bodies ? <State kind="good">agree</State> : <State kind="wait">waiting</State>;
}

function scrubWords(s: Schemas['Scrubbed']): string {
  if (underWay(s)) return `Under way since ${time(new Date(s.started))}; ${s.damaged ? things(s.damaged, 'is', 'are') + ' damaged' : 'all agree so far'}.`;
  if (!year(s.finished) || !s.bodies) return 'It has read nothing yet; it looks again every minute.';
  return `Finished ${ago(new Date(s.finished))} ago; ${s.damaged ? `${count(s.damaged)} damaged` : 'all agree'}.`;
}

function grewBy(d: Schemas['Overview']): string {
  const bytes = d.grew.reduce((n, g) => n + g.bytes, 0);
  return `${bytes >= 0 ? '+' : ''}${size(bytes)} in 30 days`;
}

function Changed({ list }: { list: Schemas['ChangedBucket'][] }) {
  if (!list.length) return <p className="empty faint">Nothing changed in this span.</p>;
  const zero = (n: number) => (n ? count(n) : <span className="faint">0</span>);
  return (
    <table className="tight">
      <thead>
        <tr>
          <th>Bucket</th>
          <th className="num">written</th>
          <th className="num">removed</th>
          <th className="num">size</th>
        </tr>
      </thead>
      <tbody>
        {list.map((c) => (
          <tr key={c.bucket}>
            <td>
              <Link className="plain key" to={bucketPage(c.bucket)}>
                {c.bucket}
              </Link>
            </td>
            <td className="num">{zero(c.written)}</td>
            <td className="num">{zero(c.removed)}</td>
            <td className="num">
              <Size bytes={c.bytes} sign />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Recent({ entries }: { entries: Schemas['JournalLine'][] }) {
  if (!entries.length) return <p className="empty faint">No change has been made yet.</p>;
  return (
    <table className="tight table-fixed">
      <colgroup>
        <col className="w-72" />
        <col className="w-112" />
        <col />
        <col className="w-82" />
        <col className="w-136" />
      </colgroup>
      <thead>
        <tr>
          <th>When</th>
          <th>What</th>
          <th>Object or bucket</th>
          <th className="num">Size</th>
          <th>Key that did it</th>
        </tr>
      </thead>
      <tbody>
        {entries.map((e) => (
          <tr key={e.position}>
            <td className="dim">
              <When at={e.at} />
            </td>
            <td>{e.kind}</td>
            <td className="key cut" title={visible(`${e.bucket}/${e.key ?? ''}`)}>
              {e.key ? (
                <Link className="plain" to={e.kind === 'removed' ? bucketPage(e.bucket) : objectPage(e.bucket, e.key)}>
                  {middle(visible(`${e.bucket}/${e.key}`), 31)}
                </Link>
              ) : (
                <Link className="plain" to={bucketPage(e.bucket)}>{e.bucket}</Link>
              )}
            </td>
            <td className="num">{e.key ? <Size bytes={e.size} /> : null}</td>
            <td className="cut dim" title={e.source ? `from ${e.source}` : undefined}>
              {e.who}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
