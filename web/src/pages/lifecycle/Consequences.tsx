import type { Schemas } from '../../api/client';
import { useMoney } from '../../data/queries';
import { Section, Size, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { Shape } from '../../parts/Marks';
import { count, things, visible } from '../../parts/format';

type Forecast = Schemas['ForecastInfo'];
type Action = Schemas['ForecastAction'];

const what = (a: Action) =>
  a.do === 'move'
    ? `${a.of === 'previous' ? 'previous ' : ''}to ${a.to}`
    : a.of === 'uploads'
      ? 'uploads abandoned'
      : `${a.of} removed`;

/** What each action would do today and in the days after. */
export function Consequences({ forecast, rule }: { forecast: Forecast; rule?: string }) {
  const rows = forecast.actions.filter((a) => !rule || a.rule === rule);
  const money = useMoney();
  return (
    <Listing
      rows={rows}
      id={(a) => `${a.rule} ${a.action}`}
      columns={[
        ...(rule ? [] : [{ head: 'Rule', cell: (a: Action) => <b className="strong">{a.rule}</b> }]),
        {
          head: 'What each would touch',
          cell: (a) => (
            <span className={a.do === 'remove' ? 'text-madder' : ''} title={a.when}>
              {what(a)}
            </span>
          ),
        },
        { head: 'at once', figure: true, cell: (a) => count(a.objects) },
        { head: 'bytes', figure: true, cell: (a) => <Size bytes={a.bytes} /> },
        { head: `in ${forecast.days} days`, figure: true, cell: (a) => (a.ahead ? `+${count(a.ahead)}` : '0') },
        { head: 'bytes', figure: true, cell: (a) => <Size bytes={a.aheadBytes} sign /> },
        { head: 'next one', figure: true, cell: (a) => (a.next ? <When at={a.next} /> : ''), className: 'dim' },
        {
          head: 'cost a month',
          figure: true,
          cell: (a) => `${a.cost > 0 ? '+' : ''}${money(a.cost)}`,
          className: 'dim',
        },
      ]}
    />
  );
}

/** Where rules get in each other's way, and examples of what would be touched. */
export function ConflictsAndSamples({ forecast, rule }: { forecast: Forecast; rule?: string }) {
  const conflicts = forecast.conflicts.filter((c) => !rule || c.winner === rule || c.loser === rule);
  const samples = forecast.actions
    .filter((a) => !rule || a.rule === rule)
    .flatMap((a) => a.samples.slice(0, 4).map((s) => ({ ...s, a })))
    .sort((x, y) => x.day - y.day)
    .slice(0, 8);
  const n = conflicts.reduce((sum, c) => sum + c.objects, 0);
  return (
    <div className="columns grid grid-cols-[1fr_1fr] gap-x-28 gap-y-14 mt-14">
      <Section title="Conflicts" end={n ? <span className="text-weld">{things(n, 'object')}</span> : null}>
        {conflicts.length ? (
          conflicts.map((c) => (
            <p key={`${c.winner} ${c.loser} ${c.winnerWhen}`} className="py-8 border-b border-b-hairline">
              <b className="strong">{c.winner}</b> comes first before <b className="strong">{c.loser}</b>: {c.why}.
              <span className="small faint block">
                {things(c.objects, 'object')}, <Size bytes={c.bytes} />, such as{' '}
                <span className="key">{visible(c.sample ?? '')}</span>
              </span>
            </p>
          ))
        ) : (
          <p className="empty faint">No two rules are about the same thing.</p>
        )}
      </Section>
      <Section
        title="Rehearsal"
        end={
          <span className="faint">
            on the catalog of <When at={forecast.at} />
          </span>
        }
      >
        {samples.map((s, i) => (
          <p key={i} className="row py-5 border-b border-b-hairline small">
            <span className="key cut grow" title={s.key}>
              {visible(s.key)}
            </span>
            <span className="num dim nowrap">{s.day ? `in ${things(s.day, 'day')}` : 'at once'}</span>
            <span className={`inline-flex items-center gap-4 nowrap ${s.a.do === 'remove' ? 'text-madder' : ''}`}>
              <Shape kind={s.a.do === 'remove' ? 'wrong' : 'past'} size={9} /> {what(s.a)}
            </span>
          </p>
        ))}
        <p className="small faint mt-6">
          {samples.length ? 'Nothing has been touched.' : 'Nothing would be touched in this time.'}
        </p>
      </Section>
    </div>
  );
}
