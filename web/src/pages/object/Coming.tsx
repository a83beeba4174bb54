import { Link } from 'react-router';

import { api, ask } from '../../api/client';
import { useComing } from '../../data/lifecycle';
import { useChange } from '../../data/queries';
import type { Schemas } from '../../api/client';
import { Complaint, Section, When } from '../../parts/Bits';
import { useToast } from '../../parts/Toasts';
import { things } from '../../parts/format';

const daysTo = (at: string) => Math.max(0, Math.ceil((Date.parse(at) - Date.now()) / 864e5));

/** What the rules have in store for a version, and where it can be read from. */
export function Coming({ bucket, o }: { bucket: string; o: Schemas['ObjectInfo'] }) {
  const coming = useComing(bucket, o.key, o.version);
  return (
    <Section title="Lifecycle">
      {o.restored ? <Restored bucket={bucket} o={o} /> : null}
      {coming.error ? <Complaint error={coming.error} /> : null}
      {coming.data?.coming.map((c) => (
        <p key={`${c.at} ${c.rule}`} className="py-5 border-b border-b-hairline">
          <b className={c.do === 'remove' ? 'text-madder' : 'strong'}>
            {c.do === 'move' ? `Moves to ${c.to}` : 'Removed'}{' '}
            {daysTo(c.at) ? `in ${things(daysTo(c.at), 'day')}` : 'soon'}
          </b>
          , <When at={c.at} />
          {c.rule ? (
            <>
              , by rule <Link to={`/buckets/${bucket}/lifecycle/${encodeURIComponent(c.rule)}`}>{c.rule}</Link>
            </>
          ) : null}
          <span className="small faint block">{c.when}</span>
        </p>
      ))}
      {coming.data?.none ? <p className="faint py-5">It stays as it is: {coming.data.none}.</p> : null}
    </Section>
  );
}

/** How far the restored copy of a version is, and the way to ask for one. */
function Restored({ bucket, o }: { bucket: string; o: Schemas['ObjectInfo'] }) {
  const toast = useToast();
  const r = o.restored!;
  const ask_ = useChange(() =>
    ask(
      api.POST('/api/v1/buckets/{bucket}/fetch', {
        params: { path: { bucket } },
        body: { key: o.key, version: o.version },
      }),
    ),
  );
  return (
    <div className="py-5 border-b border-b-hairline">
      {r.until ? (
        <p>
          Can be read from a restored copy until <When at={r.until} />.
        </p>
      ) : r.asked && !r.fault ? (
        <p>
          A restored copy is on its way; it will be there <When at={r.due!} />.
        </p>
      ) : (
        <p>
          In <b className="strong">{r.tier}</b>, where it is restored before it is read. {r.fault}
        </p>
      )}
      {!r.asked || r.fault ? (
        <button
          type="button"
          className="btn mt-6"
          disabled={ask_.isPending}
          onClick={() => ask_.mutate(undefined, { onSuccess: () => toast('Asked for') })}
        >
          Restore it for reading
        </button>
      ) : null}
      {ask_.error ? <Complaint error={ask_.error} /> : null}
    </div>
  );
}
