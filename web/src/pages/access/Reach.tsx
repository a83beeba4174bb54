import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useMatrix } from '../../data/access';
import { useSession } from '../../data/session';
import { Field, Trouble } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { State } from '../../parts/Marks';
import { bucketPage, visible } from '../../parts/format';
import { More } from '../../parts/Listing';
import { live } from '../../data/keys';
import { unreadable } from '../../data/queries';

const rights = ['list', 'read', 'write', 'remove', 'settings'] as const;

interface Asked {
  subject: string; // as the desk names it: "key ID", "person NAME", "account NAME", "anyone"
  bucket: string;
}

/** Which person, key or account reaches which bucket: five beads on a thread, one for each right. */
export default function Reach() {
  const session = useSession();
  const list = useMatrix(session.account);
  const [asked, setAsked] = useState<Asked | null>(null);
  if (unreadable(list)) return <Trouble error={list.error} />;
  const buckets = list.data?.pages.flatMap((p) => p.buckets) ?? [];
  const who = new Map<string, string>();
  for (const b of buckets)
    for (const r of b.reach) if (r.rights.length || r.some.length || !who.has(r.who)) who.set(r.who, r.name ?? '');
  const order = ['anyone', 'account', 'person', 'key'];
  const rows = [...who.keys()].sort(
    (a, b) => order.indexOf(a.split(' ')[0]!) - order.indexOf(b.split(' ')[0]!) || a.localeCompare(b),
  );
  if (list.data && !buckets.length)
    return (
      <div className="empty">
        <b className="strong">{session.account} owns no bucket yet.</b>
        <p className="dim">What its people and keys reach shows here, as soon as there is something to reach.</p>
      </div>
    );
  return (
    <>
      <div className="row small dim gap-18 mb-8 flex-wrap">
        <span>Beads from left: {rights.join(', ')}</span>
        <span className="row gap-6">
          <Bead how="whole" /> in all of the bucket
        </span>
        <span className="row gap-6">
          <Bead how="part" /> in some part of it
        </span>
        <span className="row gap-6">
          <Bead how="not" /> not
        </span>
      </div>
      <div className="overflow-x-auto">
        <table>
          <thead>
            <tr>
              <th>Who</th>
              {buckets.map((b) => (
                <th key={b.bucket}>
                  <Link className="key" to={bucketPage(b.bucket)}>
                    {b.bucket}
                  </Link>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((w) => (
              <tr key={w}>
                <td>
                  <span className="faint">{w === 'anyone' ? '' : w.split(' ')[0]} </span>
                  {w === 'anyone' ? (
                    <State kind="warn">anyone</State>
                  ) : (
                    <span className={w.startsWith('key ') ? 'key' : 'strong'}>{w.slice(w.indexOf(' ') + 1)}</span>
                  )}
                  {who.get(w) && !w.endsWith(who.get(w)!) ? <span className="faint"> {who.get(w)}</span> : null}
                </td>
                {buckets.map((b) => {
                  const r = b.reach.find((x) => x.who === w);
                  return (
                    <td key={b.bucket}>
                      <button
                        type="button"
                        onClick={() => setAsked({ subject: w, bucket: b.bucket })}
                        aria-label={`${w} in ${b.bucket}: ${words(r)}`}
                        title={words(r)}
                      >
                        <Thread r={r} />
                      </button>
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <More list={list} />
      {buckets.some((b) => b.more) ? (
        <p className="small faint">There are more than 200 keys or people; the rest is not shown.</p>
      ) : null}
      <p className="small faint mt-8">Choose a thread to ask why.</p>
      {asked ? <Why asked={asked} onClose={() => setAsked(null)} /> : null}
    </>
  );
}

const words = (r?: Schemas['Reach']) =>
  !r || (!r.rights.length && !r.some.length)
    ? 'nothing'
    : [r.rights.join(', '), r.some.length ? `in parts: ${r.some.join(', ')}` : ''].filter(Boolean).join('; ');

const Bead = ({ how, x }: { how: 'whole' | 'part' | 'not'; x?: number }) => {
  const at = x ?? 6;
  const mark =
    how === 'whole' ? (
      <circle cx={at} cy="6" r="4.4" fill="var(--color-woad)" />
    ) : how === 'part' ? (
      <path
        className="fill-none"
        d={`M${at} 2.2a3.8 3.8 0 0 0 0 7.6Z M${at} 2.2a3.8 3.8 0 0 1 0 7.6`}
        fill="var(--color-woad)"
        fillOpacity="1"
        stroke="var(--color-woad)"
        strokeWidth="1.4"
      />
    ) : (
      <path d={`M${at} 4v4`} stroke="var(--color-ink-3)" strokeWidth="1.4" />
    );
  const half = how === 'part' ? <path d={`M${at} 2.2a3.8 3.8 0 0 0 0 7.6Z`} fill="var(--color-woad)" /> : null;
  return x === undefined ? (
    <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden="true">
      {mark}
      {half}
    </svg>
  ) : (
    <>
      {how === 'part' ? <circle cx={at} cy="6" r="3.8" fill="var(--color-cloth-raised)" /> : null}
      {mark}
      {half}
    </>
  );
};

const Thread = ({ r }: { r?: Schemas['Reach'] }) => (
  <svg width="92" height="12" viewBox="0 0 92 12" aria-hidden="true">
    <path d="M0 6h92" stroke="var(--color-hairline)" strokeWidth="1.5" />
    {rights.map((x, i) => (
      <Bead key={x} x={10 + i * 18} how={r?.rights.includes(x) ? 'whole' : r?.some.includes(x) ? 'part' : 'not'} />
    ))}
  </svg>
);

/** Why somebody may do something there, or not: asked of the service for each right. */
function Why({ asked, onClose }: { asked: Asked; onClose: () => void }) {
  const [key, setKey] = useState('');
  const account = asked.subject.startsWith('account ');
  const session = useSession();
  const answers = useQuery({
    queryKey: live('access', 'why', asked, key),
    queryFn: () =>
      Promise.all(
        rights.map((r) =>
          ask(
            api.POST('/api/v1/access/explain', {
              body: {
                subject: asked.subject.replace(' ', ':'),
                account: asked.subject.startsWith('person ') ? session.account : '',
                do: r,
                bucket: asked.bucket,
                key,
              },
            }),
          ),
        ),
      ),
    enabled: !account,
    placeholderData: (d) => d,
  });
  return (
    <Dialog
      open
      onClose={onClose}
      title={`${asked.subject === 'anyone' ? 'Anyone' : asked.subject.slice(asked.subject.indexOf(' ') + 1)} in ${asked.bucket}`}
      width={720}
      footer={
        <>
          <Link className="btn no-underline" to={`/access/grants?bucket=${asked.bucket}`}>
            Grants on {asked.bucket}
          </Link>
          <button type="button" className="btn main" onClick={onClose}>
            Close
          </button>
        </>
      }
    >
      {account ? (
        <p>
          An account does nothing itself: its keys and people do, each no more than its role allows. Its own
          administrators see them; what was opened to it stands among the grants.
        </p>
      ) : (
        <>
          <Field
            label={`For which key or prefix of ${asked.bucket}`}
            mono
            value={key}
            onChange={(e) => setKey(e.target.value)}
            placeholder="the whole bucket"
            name="about"
          />
          {answers.error ? <Trouble error={answers.error} /> : null}
          <table className="open mt-10">
            <tbody>
              {(answers.data ?? []).map((a) => (
                <tr key={a.do}>
                  <td className="w-70">{a.do}</td>
                  <td className="w-96">
                    {a.allowed ? <State kind="good">allowed</State> : <State kind="none">refused</State>}
                  </td>
                  <td className="dim">
                    {visible(a.why)}.{' '}
                    {a.remedy ? <span className="faint">To change it: {visible(a.remedy)}.</span> : null}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </Dialog>
  );
}
