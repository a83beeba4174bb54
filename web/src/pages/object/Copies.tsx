import { Link } from 'react-router';

import type { Schemas } from '../../api/client';
import { useReplicas } from '../../data/replication';
import { Section, When } from '../../parts/Bits';
import { State } from '../../parts/Marks';
import { objectPage, visible } from '../../parts/format';
import { replicaShape } from '../replication/states';

/** How an object stands where rules copy it to, why it is not there, and what it is itself a replica of. */
export function Copies({ bucket, objectKey }: { bucket: string; objectKey: string }) {
  const r = useReplicas(bucket, objectKey, true);
  const d = r.data;
  if (!d || (!d.replicas.length && !d.replicaOf)) return null;
  return (
    <Section title="Copies">
      {d.replicaOf ? <ReplicaOf of={d.replicaOf} /> : null}
      {d.replicas.map((x) => (
        <p key={x.rule + x.target} className="py-5 border-b border-b-hairline">
          <State kind={replicaShape[x.state] ?? 'none'}>{x.state}</State>{' '}
          <span className="dim">
            by <Link to={`/replication/${encodeURIComponent(x.rule)}`}>{x.rule}</Link>
          </span>
          <span className="key block wrap-any" title={visible(x.target)}>
            {visible(x.target)}
          </span>
          <span className="small faint block">
            {x.state === 'completed' && x.confirmed ? (
              <>
                confirmed there <When at={x.confirmed} />
              </>
            ) : null}
            {x.state === 'pending' && x.since ? (
              <>
                waits since <When at={x.since} />
              </>
            ) : null}
            {x.why}
            {x.state === 'failed' && x.next ? (
              <>
                , next try <When at={x.next} />
              </>
            ) : null}
          </span>
        </p>
      ))}
    </Section>
  );
}

const ReplicaOf = ({ of }: { of: Schemas['ReplicaOfInfo'] }) => (
  <p className="py-5 border-b border-b-hairline">
    <State kind="past">replica</State>{' '}
    {of.bucket ? (
      <>
        of{' '}
        {of.here ? (
          <Link className="key wrap-any" to={objectPage(of.bucket, of.key, of.version)}>
            {visible(`${of.bucket}/${of.key}`)}
          </Link>
        ) : (
          <span className="key wrap-any">{visible(`${of.bucket}/${of.key}`)}, of another service</span>
        )}
      </>
    ) : (
      'of an object of another account'
    )}
    <span className="small faint block">
      since <When at={of.since} />
    </span>
  </p>
);
