import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';

import { type Schemas, api, ask } from '../../api/client';
import { useChange, unreadable } from '../../data/queries';
import { Complaint, CopyMark, Field, Size, Trouble, When, sentence } from '../../parts/Bits';
import { Ask, about } from '../../parts/Form';
import { Listing } from '../../parts/Listing';
import { State, type StateKind } from '../../parts/Marks';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { things, visible } from '../../parts/format';
import { live } from '../../data/keys';

type Finding = Schemas['FindingInfo'];

const shapes: Record<Finding['grade'], StateKind> = { serious: 'wrong', 'worth a look': 'warn' };

/** What the audit of the account found: what is so, why it matters, and what mends it. */
export default function Audit() {
  const audit = useQuery({
    queryKey: live('audit'),
    queryFn: () => ask(api.GET('/api/v1/audit')),
    placeholderData: (d) => d,
  });
  const run = useChange(() => ask(api.POST('/api/v1/audit/run')));
  const [accepting, setAccepting] = useState<Finding | null>(null);
  const [mending, setMending] = useState<Finding | null>(null);
  const [all, setAll] = useState(false);
  if (unreadable(audit)) return <Trouble error={audit.error} />;
  const found = audit.data?.findings ?? [];
  const open = found.filter((f) => !f.accepted);
  const serious = open.filter((f) => f.grade === 'serious').length;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Audit</h1>
          <p className="meta">
            {audit.data?.at ? (
              <span>
                as of <When at={audit.data.at} />
              </span>
            ) : (
              <span>there was none yet</span>
            )}
            {serious ? <State kind="wrong">{serious} serious</State> : null}
            {open.length - serious ? <State kind="warn">{open.length - serious} worth a look</State> : null}
            {found.length - open.length ? <State kind="off">{found.length - open.length} accepted</State> : null}
          </p>
        </div>
        <div className="row">
          <Switch on={all} onChange={setAll}>
            accepted ones too
          </Switch>
          <button type="button" className="btn main" disabled={run.isPending} onClick={() => run.mutate(undefined)}>
            Look now
          </button>
        </div>
      </div>
      {run.error ? <Complaint error={run.error} /> : null}
      <Listing
        rows={all ? found : open}
        id={(f) => `${f.check} ${f.subject}`}
        empty={audit.data?.at ? <p className="empty faint">Nothing was found.</p> : undefined}
        columns={[
          { head: 'Grade', cell: (f) => <State kind={f.accepted ? 'off' : shapes[f.grade]}>{f.grade}</State> },
          {
            head: 'What is so',
            cell: (f) => (
              <>
                <Link className="key wrap-any" to={f.page}>
                  {visible(f.subject)}
                </Link>{' '}
                {visible(f.says)}
                <div className="small faint">
                  {f.accepted ? `Accepted by ${f.accepted.by}: ${f.accepted.why}` : sentence(f.why)}
                </div>
              </>
            ),
          },
          {
            head: 'What mends it',
            className: 'max-w-420',
            cell: (f) => (
              <span className="key wrap-any">
                {f.fix} <CopyMark text={f.fix} what="the command" />
                {f.mends && !f.accepted ? (
                  <button type="button" className="btn low ml-8" onClick={() => setMending(f)}>
                    Mend
                  </button>
                ) : null}
              </span>
            ),
          },
          { head: 'Holds', figure: true, cell: (f) => (f.cost ? <Size bytes={f.cost} /> : null) },
          { head: 'First', cell: (f) => <When at={f.first} />, className: 'dim' },
          {
            head: '',
            cell: (f) => (
              <button type="button" className="btn low" onClick={() => setAccepting(f)}>
                {f.accepted ? 'Count again' : 'Accept'}
              </button>
            ),
          },
        ]}
      />
      <p className="small faint mt-14">
        {things(found.length, 'finding')}. The service looks through the account each hour; what was mended is
        forgotten.
      </p>
      {mending ? <Mend f={mending} onClose={() => setMending(null)} /> : null}
      {accepting ? <Accept f={accepting} onClose={() => setAccepting(null)} /> : null}
    </>
  );
}

/** Says what mending a finding does, and does it. */
function Mend({ f, onClose }: { f: Finding; onClose: () => void }) {
  const toast = useToast();
  const mend = useChange(() => ask(api.POST('/api/v1/audit/mend', { body: { check: f.check, subject: f.subject } })));
  return (
    <Ask
      title="Mend what was found"
      act="Mend it"
      busy={mend.isPending}
      error={mend.error}
      onClose={onClose}
      onAct={() =>
        mend.mutate(undefined, {
          onSuccess: () => {
            toast(`${f.subject}: done, and looked at again`);
            onClose();
          },
        })
      }
    >
      <p>
        <span className="key wrap-any">{visible(f.subject)}</span> {visible(f.says)}.
      </p>
      <p>{f.mends}</p>
      <p className="small faint">
        The same as <span className="key">{f.fix}</span>
      </p>
    </Ask>
  );
}

/** Lets a finding be, for a reason and until a moment, or has it count again. */
function Accept({ f, onClose }: { f: Finding; onClose: () => void }) {
  const [why, setWhy] = useState('');
  const [until, setUntil] = useState('90d');
  const again = !!f.accepted;
  const save = useChange(() =>
    ask(
      api.POST('/api/v1/audit/accept', {
        body: { check: f.check, subject: f.subject, ...(again ? {} : { why, until }) },
      }),
    ),
  );
  return (
    <Ask
      title={again ? 'Have it count again' : 'Let it be'}
      act={again ? 'Count it again' : 'Let it be'}
      busy={save.isPending}
      ready={again || !!(why && until)}
      error={save.error}
      onClose={onClose}
      onAct={() => save.mutate(undefined, { onSuccess: onClose })}
    >
      <p>
        <span className="key wrap-any">{visible(f.subject)}</span> {visible(f.says)}.
      </p>
      {again ? null : (
        <>
          <Field
            label="Why that is all right"
            value={why}
            onChange={(e) => setWhy(e.target.value)}
            name="why"
            autoFocus
            error={about(save.error, 'why')}
          />
          <Field
            label="Until"
            mono
            value={until}
            onChange={(e) => setUntil(e.target.value)}
            name="until"
            error={about(save.error, 'until')}
            hint="Such as 90d, or 2027-01-31; then it counts again"
          />
        </>
      )}
    </Ask>
  );
}
