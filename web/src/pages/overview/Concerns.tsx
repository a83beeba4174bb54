import { Link } from 'react-router';

import { type Schemas } from '../../api/client';
import { State, type StateKind } from '../../parts/Marks';
import { ago, count, middle, objectPage, size, things, time, visible } from '../../parts/format';

const kinds: Record<string, [StateKind, string]> = {
  wrong: ['wrong', 'wrong'],
  attention: ['warn', 'attention'],
  waiting: ['wait', 'waiting'],
};

export function Concerns({ d }: { d: Schemas['Overview'] }) {
  return (
    <table className="open">
      <tbody>
        {d.concerns.map((c) => {
          const [kind, word] = kinds[c.state]!;
          return (
            <tr key={c.subject + c.says}>
              <td className="w-92 align-top pt-7">
                <State kind={kind}>{word}</State>
              </td>
              <td className="py-6 px-8">
                <b className={c.page && !['uploads', 'audit', 'clock'].includes(c.page) ? 'key strong' : 'strong'}>
                  {middle(visible(c.subject), 60)}
                </b>{' '}
                {c.says}
                <div className="small dim">{c.detail}</div>
              </td>
              <td className="num align-top pt-6">
                {c.bytes ? size(c.bytes) : c.figure}
                {c.since ? <div className="small dim">since {ago(new Date(c.since))}</div> : null}
              </td>
              <td className="num align-top pt-6">
                <Way concern={c} />
              </td>
            </tr>
          );
        })}
        {d.scrubbed && d.collected ? <Upkeep scrubbed={d.scrubbed} collected={d.collected} /> : null}
      </tbody>
    </table>
  );
}

/** Where a concern is dealt with. */
function Way({ concern: { page, subject } }: { concern: Schemas['Concern'] }) {
  const [bucket, ...rest] = subject.split('/');
  const ways: Record<string, readonly [to: string, says: string]> = {
    settings: [`/buckets/${bucket}/settings`, 'Change quota'],
    uploads: ['/uploads', 'See them'],
    object: [objectPage(bucket!, rest.join('/')), 'Show'],
    lifecycle: [`/buckets/${bucket}/lifecycle`, 'Look'],
    tiers: ['/tiers', 'See them'],
    audit: ['/audit', 'See what it found'],
    clock: ['/clock', 'Look'],
    endpoints: ['/endpoints', 'Look'],
    regions: ['/regions', 'Look'],
    replication: [`/replication/${encodeURIComponent(subject)}`, 'Look'],
  };
  const way = ways[page ?? ''];
  return way ? <Link to={way[0]}>{way[1]}</Link> : null;
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
          <div className="small dim">
            {year(collected.lastRun) ? `Last at ${time(new Date(collected.lastRun))}.` : 'It has not run yet.'}
          </div>
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
  if (underWay(s))
    return `Under way since ${time(new Date(s.started))}; ${s.damaged ? things(s.damaged, 'is', 'are') + ' damaged' : 'all agree so far'}.`;
  if (!year(s.finished) || !s.bodies) return 'It has read nothing yet; it looks again every minute.';
  return `Finished ${ago(new Date(s.finished))} ago; ${s.damaged ? `${count(s.damaged)} damaged` : 'all agree'}.`;
}
