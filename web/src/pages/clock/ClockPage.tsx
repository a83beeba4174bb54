import { useState } from 'react';

import { type Jump, useClock } from '../../data/clock';
import { unreadable } from '../../data/queries';
import { Fact, Facts } from '../../parts/Facts';
import { Section, Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { span } from '../../parts/format';
import { RightDialog } from './RightDialog';

/** The clock by which ages are judged, where it jumped, and what an operator says of that. */
export default function ClockPage() {
  const clock = useClock();
  const [open, setOpen] = useState<Jump | null>(null);
  if (unreadable(clock)) return <Trouble error={clock.error} />;
  const c = clock.data;
  if (!c) return null;
  return (
    <>
      <div className="pagehead">
        <h1>Clock</h1>
      </div>
      <p className="dim mb-14 max-w-720">
        The database’s clock tells the age of everything. When it jumps, the rules that act by age wait until you say
        that it is right, so that nothing is removed because a clock was wrong.
      </p>
      <Facts>
        <Fact name="Time">
          <When at={c.now} />
        </Fact>
        <Fact name="Rules that act by age">
          {c.waits ? <State kind="warn">wait</State> : <State kind="good">act</State>}
        </Fact>
        <Fact name="The database’s clock">
          {c.behind ? `jumped back by ${span(c.behind)}; the time goes on as it was` : null}
        </Fact>
        <Fact name="This process’s clock">
          {Math.abs(c.ahead) >= 1
            ? `${span(Math.abs(c.ahead))} ${c.ahead > 0 ? 'ahead of' : 'behind'} the database’s`
            : null}
        </Fact>
      </Facts>
      <div className="mt-22">
        <Section title="Jumps" aside="latest first">
          <Listing
            rows={c.jumps}
            id={(j) => String(j.id)}
            empty={<p className="dim">The clock has never jumped.</p>}
            columns={[
              { head: 'From', cell: (j) => <When at={j.from} /> },
              { head: 'To', cell: (j) => <When at={j.to} /> },
              { head: 'By', figure: true, cell: (j) => by(j) },
              {
                head: 'State',
                cell: (j) =>
                  j.state === 'asked about' ? (
                    <State kind="warn">waits for you</State>
                  ) : (
                    <span className="dim">
                      {j.state === 'right' ? 'said to be right' : 'undone: the clock came back by itself'}
                    </span>
                  ),
              },
              { head: 'Said by', cell: (j) => j.by, className: 'dim' },
              {
                figure: true,
                cell: (j) =>
                  j.state === 'asked about' ? (
                    <button type="button" className="btn low" onClick={() => setOpen(j)}>
                      The clock is right
                    </button>
                  ) : null,
              },
            ]}
          />
        </Section>
      </div>
      {open ? <RightDialog jump={open} by={by(open)} onClose={() => setOpen(null)} /> : null}
    </>
  );
}

/** How far a jump went. */
function by(j: Jump): string {
  const seconds = (Date.parse(j.to) - Date.parse(j.from)) / 1000;
  return `${span(Math.abs(seconds))} ${seconds > 0 ? 'ahead' : 'back'}`;
}
