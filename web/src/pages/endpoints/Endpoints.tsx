import { useState } from 'react';

import { api, ask } from '../../api/client';
import { type Endpoint, useEndpoints } from '../../data/replication';
import { Trouble, When } from '../../parts/Bits';
import { Confirm } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State } from '../../parts/Marks';
import { size, things } from '../../parts/format';
import { endpointShape } from '../replication/states';
import { CheckDialog, EndpointForm } from './EndpointDialog';
import { unreadable } from '../../data/queries';

/** The endpoints: other stores, how they stand and what they can do. */
export default function Endpoints() {
  const endpoints = useEndpoints();
  const [open, setOpen] = useState<{ do: 'add' | 'change' | 'check' | 'remove'; e?: Endpoint } | null>(null);
  if (unreadable(endpoints)) return <Trouble error={endpoints.error} />;
  const close = () => setOpen(null);
  return (
    <>
      <div className="pagehead">
        <h1>Endpoints</h1>
        <button type="button" className="btn main" onClick={() => setOpen({ do: 'add' })}>
          Add an endpoint
        </button>
      </div>
      <p className="dim mb-14 max-w-720">
        An endpoint is another store, with the key that this account has there. Rules copy to its buckets. Each is
        checked again every minute.
      </p>
      <Listing
        rows={endpoints.data ?? []}
        id={(e) => e.name}
        empty={
          endpoints.data ? (
            <p className="empty faint">No endpoint is registered yet. Add one, and rules can copy to it.</p>
          ) : undefined
        }
        columns={[
          {
            head: 'Endpoint',
            cell: (e) => (
              <>
                <b className="strong">{e.name}</b>
                {e.note ? <div className="small faint">{e.note}</div> : null}
              </>
            ),
          },
          {
            head: 'State',
            cell: (e) => (
              <>
                <State kind={endpointShape[e.health.state] ?? 'wait'}>{e.health.state}</State>{' '}
                <span className="small faint">
                  since <When at={e.health.since} />
                </span>
                <div className="small faint max-w-260" title={e.health.remedy}>
                  {e.health.says ? (e.health.field ? `${e.health.field}: ` : '') + e.health.says : null}
                </div>
              </>
            ),
          },
          {
            head: 'Answers in',
            figure: true,
            cell: (e) => (e.health.latency ? `${e.health.latency.toFixed(0)} ms` : null),
          },
          {
            head: 'Address',
            cell: (e) => (
              <>
                <span className="key">{e.url}</span>
                <div className="small faint">
                  region {e.region}, {e.style} style, key <span className="key">{e.key}</span>
                  {e.bandwidth ? `, ${size(e.bandwidth)}/s at the most` : ''}
                </div>
                <Cannot e={e} />
              </>
            ),
          },
          {
            figure: true,
            cell: (e) => (
              <span className="row justify-end">
                {(['check', 'change', 'remove'] as const).map((d) => (
                  <button key={d} type="button" className="btn low" onClick={() => setOpen({ do: d, e })}>
                    {d[0]!.toUpperCase() + d.slice(1)}
                  </button>
                ))}
              </span>
            ),
          },
        ]}
      />
      {open?.do === 'add' ? <EndpointForm onClose={close} /> : null}
      {open?.do === 'change' ? <EndpointForm endpoint={open.e} onClose={close} /> : null}
      {open?.do === 'check' ? <CheckDialog endpoint={open.e!.name} onClose={close} /> : null}
      {open?.do === 'remove' ? <Forget e={open.e!} onClose={close} /> : null}
    </>
  );
}

/** What an endpoint cannot do, or nobody tried. */
function Cannot({ e }: { e: Endpoint }) {
  const not = e.health.abilities.filter((a) => a.can === 'no').map((a) => a.name);
  const unknown = e.health.abilities.filter((a) => a.can === 'not known').length;
  const says = [
    not.length ? `cannot: ${not.join(', ')}` : '',
    unknown ? `${things(unknown, 'ability', 'abilities')} not tried` : '',
  ];
  return <div className="small faint">{says.filter(Boolean).join('; ') || 'can all that is looked for'}</div>;
}

function Forget({ e, onClose }: { e: Endpoint; onClose: () => void }) {
  return (
    <Confirm
      title={`Forget the endpoint ${e.name}?`}
      act="Forget it"
      done={`The endpoint ${e.name} is forgotten`}
      run={() => ask(api.DELETE('/api/v1/endpoints/{endpoint}', { params: { path: { endpoint: e.name } } }))}
      onClose={onClose}
    >
      <p>
        Its address and the secret of the key <span className="key">{e.key}</span> are forgotten. What is there stays as
        it is.
      </p>
    </Confirm>
  );
}
