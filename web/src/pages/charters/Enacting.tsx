import { useState } from 'react';

import type { Problem } from '../../api/client';
import { type CharterFile, type Plan, type Progress, compare, enact } from '../../data/charters';
import { useChange } from '../../data/queries';
import { Complaint } from '../../parts/Bits';
import { Check } from '../../parts/Check';
import { Dialog } from '../../parts/Dialog';
import { things } from '../../parts/format';
import { Steps } from './Steps';

const sample = `charter: loans
buckets:
  loans:
    versioning: on
    quota: 40GiB
    rules:
      - name: earlier
        actions: [{of: previous, do: remove, days: 400}]
`;

/** Takes files, says what enacting them does, and does it once that is agreed to. */
export function Enacting({ retire, onClose }: { retire: boolean; onClose: () => void }) {
  const [files, setFiles] = useState<CharterFile[]>([{ name: 'charter.yaml', text: '' }]);
  const [plan, setPlan] = useState<Plan | null>(null);
  const [withObjects, setWithObjects] = useState(false);
  const [at, setAt] = useState<Progress | null>(null);
  const [made, setMade] = useState<Progress[]>([]);
  const look = useChange(() => compare(files, retire));
  const go = useChange(() =>
    enact({ files, retire, plan: plan!.plan, withObjects }, (p) => {
      setAt(p);
      if (p.secret) setMade((m) => [...m, p]);
    }),
  );
  const stale = () => {
    setPlan(null);
    setAt(null);
    go.reset();
  };
  const holds = plan?.steps.some((s) => s.holds) ?? false;
  const blocked = plan?.steps.some((s) => s.cannot) || !!plan?.secrets?.length;
  const act = retire ? 'Take it down' : 'Enact';
  return (
    <Dialog
      open
      onClose={onClose}
      title={retire ? 'Take down what files declare' : 'Compare and enact'}
      width={820}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            {at?.ended ? 'Close' : 'Cancel'}
          </button>
          {at?.ended ? null : plan ? (
            <button
              type="button"
              className={retire || holds ? 'btn harm solid' : 'btn main'}
              disabled={go.isPending || blocked || !plan.steps.length || (holds && !withObjects)}
              onClick={() => go.mutate(undefined)}
            >
              {act}: {things(plan.steps.length, 'step')}
            </button>
          ) : (
            <button
              type="button"
              className="btn main"
              disabled={look.isPending || !files.some((f) => f.text.trim())}
              onClick={() => look.mutate(undefined, { onSuccess: setPlan })}
            >
              Compare
            </button>
          )}
        </>
      }
    >
      <div className="grid gap-12">
        {plan ? (
          <>
            <p>
              {plan.steps.length
                ? `The charter ${plan.charter}, ${things(plan.things, 'thing')} in the account ${plan.account}: this is what changes.`
                : retire
                  ? `Nothing of the charter ${plan.charter} is there.`
                  : `All is as the charter ${plan.charter} declares, ${things(plan.things, 'thing')}.`}{' '}
              <button type="button" className="link" onClick={stale}>
                Change the files
              </button>
            </p>
            <Steps steps={plan.steps} done={at?.step} />
            {holds ? (
              <Check on={withObjects} onChange={setWithObjects} label="What these buckets hold goes for good">
                What these buckets hold goes for good
              </Check>
            ) : null}
            {plan.secrets?.length ? (
              <p className="small bad">
                It needs secrets that only the command line can read: {plan.secrets.join(', ')}. Enact it there.
              </p>
            ) : null}
            {made.map((m) => (
              <p className="note warn wrap-any" key={m.key}>
                The key {m.does?.name}: <span className="key">{m.key}</span>, secret{' '}
                <span className="key">{m.secret}</span>. It is shown this once.
              </p>
            ))}
            {at?.ended ? <p className="strong">Done, {things(at.steps, 'step')}.</p> : null}
            {go.error ? <Complaint error={go.error} /> : null}
          </>
        ) : (
          <>
            <Files files={files} onChange={setFiles} />
            {look.error ? <Wrong error={look.error as Problem} /> : null}
          </>
        )}
      </div>
    </Dialog>
  );
}

function Files({ files, onChange }: { files: CharterFile[]; onChange: (f: CharterFile[]) => void }) {
  const read = async (list: FileList | null) => {
    const texts = await Promise.all([...(list ?? [])].map(async (f) => ({ name: f.name, text: await f.text() })));
    if (texts.length) onChange(texts);
  };
  return (
    <>
      <div className="row">
        <label className="btn cursor-pointer">
          Choose files
          <input
            type="file"
            className="sr-only"
            accept=".yaml,.yml"
            multiple
            onChange={(e) => void read(e.target.files)}
          />
        </label>
        <span className="small faint">or write one here</span>
      </div>
      {files.map((f, i) => (
        <textarea
          key={f.name}
          className="field mono key w-full h-280 p-10"
          aria-label={f.name}
          value={f.text}
          placeholder={sample}
          spellCheck={false}
          onChange={(e) => onChange(files.map((x, j) => (j === i ? { ...x, text: e.target.value } : x)))}
        />
      ))}
    </>
  );
}

/** All that is wrong with files, each with where it is. */
const Wrong = ({ error }: { error: Problem }) =>
  error.complaints.length ? (
    <ul className="grid gap-4">
      {error.complaints.map((c) => (
        <li key={`${c.field} ${c.detail}`} className="small bad">
          <span className="key">{c.field}</span> {c.detail}
        </li>
      ))}
    </ul>
  ) : (
    <p className="small bad">
      {error.field ? <span className="key">{error.field} </span> : null}
      {error.message} {error.remedy}
    </p>
  );
