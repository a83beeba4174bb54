import { useState } from 'react';

import { api, ask } from '../../api/client';
import { useChange, unreadable } from '../../data/queries';
import { type Region, useRegions } from '../../data/regions';
import { useSession } from '../../data/session';
import { Complaint, Trouble, When } from '../../parts/Bits';
import { Confirm } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { count, things } from '../../parts/format';
import { Admissions } from './Admissions';
import { RegionForm } from './RegionForm';

/** The regions: other services of the house, how they stand, and which accounts are admitted where. */
export default function Regions() {
  const session = useSession();
  const list = useRegions();
  const [adding, setAdding] = useState(false);
  const [forgetting, setForgetting] = useState<Region>();
  const again = useChange((name: string) =>
    ask(api.POST('/api/v1/regions/{region}/ask', { params: { path: { region: name } } })),
  );
  if (unreadable(list)) return <Trouble error={list.error} />;
  const rows = list.data ?? [];
  return (
    <>
      <div className="pagehead">
        <h1>Regions</h1>
        {session.operator ? (
          <button type="button" className="btn main" onClick={() => setAdding(true)}>
            Add a region
          </button>
        ) : null}
      </div>
      <p className="dim mb-14 max-w-720">
        A region is a service of the house with a database and volumes of its own. Buckets are made in those that the
        account is admitted to, and are listed here whichever they are in.
      </p>
      {again.error ? <Complaint error={again.error} /> : null}
      <Listing
        rows={rows}
        id={(r) => r.name}
        columns={[
          {
            head: 'Region',
            cell: (r) => (
              <>
                <b className="strong">{r.name}</b>
                {r.note ? <div className="small faint">{r.note}</div> : null}
              </>
            ),
          },
          { head: 'State', cell: (r) => <Stands r={r} /> },
          {
            head: `${session.account} may`,
            cell: (r) => (
              <>
                {r.admitted ? 'make buckets' : <span className="faint">make none</span>}
                {r.default ? <span className="faint">, by default</span> : null}
              </>
            ),
          },
          { head: 'Buckets', figure: true, cell: (r) => (r.buckets === undefined ? null : count(r.buckets)) },
          {
            head: 'Console',
            cell: (r) => (r.desk ? <a href={r.desk}>{r.desk}</a> : <span className="dim">this one</span>),
          },
          {
            figure: true,
            cell: (r) =>
              session.operator && !r.own ? (
                <span className="row justify-end">
                  <button
                    type="button"
                    className="btn low"
                    disabled={again.isPending}
                    onClick={() => again.mutate(r.name)}
                  >
                    Ask now
                  </button>
                  <button type="button" className="btn low harm" onClick={() => setForgetting(r)}>
                    Forget
                  </button>
                </span>
              ) : null,
          },
        ]}
      />
      {session.operator ? <Admissions regions={rows} /> : null}
      {adding ? <RegionForm onClose={() => setAdding(false)} /> : null}
      {forgetting ? <ForgetRegion r={forgetting} onClose={() => setForgetting(undefined)} /> : null}
    </>
  );
}

/** What it means that a region is forgotten, before it is. */
function ForgetRegion({ r, onClose }: { r: Region; onClose: () => void }) {
  return (
    <Confirm
      title={`Forget the region ${r.name}?`}
      act="Forget it"
      done={`${r.name} is forgotten`}
      run={() => ask(api.DELETE('/api/v1/regions/{region}', { params: { path: { region: r.name } } }))}
      onClose={onClose}
    >
      <p>
        Nothing changes there: its buckets, and who is admitted, stay as they are. Here{' '}
        {r.buckets ? `its ${things(r.buckets, 'bucket')} are` : 'its buckets are'} no longer listed, and nobody who asks
        for one is told where it is. Endpoints that rules to it made stay, and go on copying.
      </p>
    </Confirm>
  );
}

function Stands({ r }: { r: Region }) {
  if (r.own) return <State kind="good">there</State>;
  if (r.state === 'away')
    return (
      <>
        <State kind="wrong">away</State>
        <div className="small dim w-260 whitespace-normal">
          {r.says} {r.seen ? <When at={r.seen} /> : null}
        </div>
      </>
    );
  if (r.state !== 'there') return <State kind="none">not asked yet</State>;
  return (
    <>
      <State kind="good">there</State>
      {r.latency ? <span className="small faint"> {Math.max(1, Math.round(r.latency))} ms</span> : null}
    </>
  );
}
