import { ToggleGroup } from 'radix-ui';
import { Navigate, useSearchParams } from 'react-router';

import { Problem, type Schemas } from '../../api/client';
import { useOverview, unreadable } from '../../data/queries';
import { useSession } from '../../data/session';
import { Section, Trouble } from '../../parts/Bits';
import { Columns } from '../../parts/Columns';
import { Growth } from '../../parts/Growth';
import { longDate, size, things, time } from '../../parts/format';
import { Concerns } from './Concerns';
import { Opened } from './Opened';
import { Changed, Recent } from './Recent';

const spans = [
  { days: 1, name: 'today' },
  { days: 7, name: '7 days' },
  { days: 30, name: '30 days' },
];

export default function Overview() {
  const [query, setQuery] = useSearchParams();
  const days = Number(query.get('days') ?? 7) || 7;
  const o = useOverview(days);
  const session = useSession();
  if (o.error instanceof Problem && o.error.code === 'not-allowed') return <Navigate to="/buckets" replace />; // who sees some buckets only
  if (unreadable(o)) return <Trouble error={o.error} />;
  if (!o.data) return <p className="faint">Reading</p>;
  const d = o.data;
  const at = new Date(d.at);
  return (
    <>
      <div className="pagehead mb-10">
        <div>
          <h1>{finding(d)}</h1>
          <p className="meta">
            {longDate(at)} <span>{session.operator ? 'all accounts' : `the account ${session.account}`}</span>
            <span>{things(d.buckets, 'bucket')}</span>
            <span>{things(d.objects, 'object')}</span>
            <span>{size(d.bytes)}</span>
            {d.unfinished.bytes ? <span>{size(d.unfinished.bytes)} in unfinished uploads</span> : null}
            {d.free !== undefined ? <span>{size(d.free)} free</span> : null}
          </p>
        </div>
        <div className="row">
          <span className="small faint">since</span>
          <ToggleGroup.Root
            type="single"
            className="seg low"
            value={String(days)}
            onValueChange={(v) => v && setQuery({ days: v }, { replace: true })}
            aria-label="Span of what changed"
          >
            {spans.map((s) => (
              <ToggleGroup.Item key={s.days} value={String(s.days)}>
                {s.name}
              </ToggleGroup.Item>
            ))}
          </ToggleGroup.Root>
        </div>
      </div>
      {o.error ? <Trouble error={o.error} /> : null}
      {d.open?.length ? (
        <Section title="Open to you" aside="of other accounts">
          <Opened list={d.open} />
        </Section>
      ) : null}
      <Columns>
        <Section title="Wrong and waiting" aside="worst first">
          <Concerns d={d} />
        </Section>
        <Section title="Growing" aside={grewBy(d)}>
          <div className="pt-8">
            <Growth points={d.growth} width={384} height={196} />
          </div>
        </Section>
      </Columns>
      <Columns below>
        <Section title="Latest changes" aside={`complete up to ${time(new Date(d.completeUpTo))}`}>
          <Recent entries={d.recent} />
        </Section>
        <Section title="Changed" aside={days === 1 ? 'today, UTC' : `the last ${days} days`}>
          <Changed list={d.changed} />
        </Section>
      </Columns>
    </>
  );
}

const words = ['Nothing', 'One thing', 'Two things', 'Three things', 'Four things', 'Five things', 'Six things'];

/** The page's title is what was found. */
function finding(d: Schemas['Overview']): string {
  const wrong = d.concerns.filter((c) => c.state === 'wrong').length;
  const wait = d.concerns.length - wrong;
  const n = (k: number) => words[k] ?? `${k} things`;
  if (wrong)
    return `${n(wrong)} ${wrong === 1 ? 'is' : 'are'} wrong${wait ? `, ${n(wait).toLowerCase()} ${wait === 1 ? 'waits' : 'wait'} for you` : ''}`;
  if (wait) return `${n(wait)} ${wait === 1 ? 'wants' : 'want'} attention, nothing is wrong`;
  if (d.buckets) return 'Nothing is wrong';
  const others = d.open?.length ?? 0;
  return others
    ? `${things(others, 'bucket')} of others ${others === 1 ? 'is' : 'are'} open to you`
    : 'Nothing is stored yet';
}

function grewBy(d: Schemas['Overview']): string {
  const bytes = d.grew.reduce((n, g) => n + g.bytes, 0);
  return `${bytes >= 0 ? '+' : ''}${size(bytes)} in 30 days`;
}
