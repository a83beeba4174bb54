import { useParams } from 'react-router';

import { type Step, useDrift, useHistory } from '../../data/charters';
import { unreadable } from '../../data/queries';
import { Section, Trouble, When } from '../../parts/Bits';
import { Listing } from '../../parts/Listing';
import { things } from '../../parts/format';
import { Standing } from './Charters';
import { Steps } from './Steps';

/** A charter: what is not as it declares, and what became of it so far. */
export default function CharterPage() {
  const { charter = '' } = useParams();
  const drift = useDrift(charter);
  const history = useHistory(charter);
  const d = drift.data;
  const drifted = (s: Step) => d?.differs.find((x) => x.kind === s.kind && x.name === s.name);
  if (unreadable(drift)) return <Trouble error={drift.error} />;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>
            <span className="dim">Charter</span> {charter}
          </h1>
          {d ? (
            <p className="meta">
              <Standing state={d.state} drift={d.differs.length} says={d.says} />
              <span>
                <When at={d.at} /> by <span className="key">{d.by}</span>
              </span>
              <span>answers for {things(d.things, 'thing')}</span>
            </p>
          ) : null}
        </div>
      </div>
      {d ? (
        <Section title="What is not as declared" aside={things(d.differs.length, 'thing')}>
          <div className="pt-12">
            {d.differs.length ? (
              <Steps
                steps={d.differs.map((s) => (s.do === 'make' ? { ...s, changes: undefined } : s))}
                drifted
                more={(s: Step) => (
                  <span className="small dim">
                    {s.do === 'make' ? 'is not there' : 'is otherwise'}
                    <Changed says="; changed last" by={drifted(s)} />
                  </span>
                )}
                each={(s: Step, field: string) => (
                  <span className="small faint ml-8">
                    <Changed says="changed" by={drifted(s)?.fields?.[field]} />
                  </span>
                )}
              />
            ) : (
              <p className="dim">All of it is as the charter declares.</p>
            )}
          </div>
          {d.differs.length ? (
            <p className="small faint mt-12">
              The lines say what enacting the same files would bring back:{' '}
              <span className="key">spindle charter enact FILES</span>.
            </p>
          ) : null}
        </Section>
      ) : null}
      <div className="mt-22" />
      <Section title="Enacted">
        <Listing
          rows={history.data ?? []}
          id={(e) => e.at}
          columns={[
            { head: 'When', cell: (e) => <When at={e.at} /> },
            { head: 'State', cell: (e) => <Standing state={e.state} says={e.says} /> },
            { head: 'By', cell: (e) => e.by, className: 'key' },
            { head: 'Steps', cell: (e) => `${e.done} of ${e.steps}`, className: 'num' },
            { head: 'Files', cell: (e) => e.digest.slice(0, 12), className: 'key faint' },
            { head: '', cell: (e) => e.says ?? '', className: 'dim cut max-w-300' },
          ]}
        />
      </Section>
    </>
  );
}

/** When something was changed last, and by whom; nothing where the trail does not tell. */
const Changed = ({ says, by }: { says: string; by?: { by?: string; at?: string } }) =>
  by?.by && by.at ? (
    <>
      {says} <When at={by.at} /> by <span className="key">{by.by}</span>
    </>
  ) : null;
