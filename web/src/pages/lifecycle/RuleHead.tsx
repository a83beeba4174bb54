import { Link, useNavigate } from 'react-router';

import { type Problem, type Schemas, api, ask } from '../../api/client';
import { type Rule } from '../../data/lifecycle';
import { useChange } from '../../data/queries';
import { Complaint } from '../../parts/Bits';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { decided } from '../../parts/Unsaved';
import { bucketPage, things } from '../../parts/format';

interface HeadProps {
  b: Schemas['BucketInfo'];
  rules: Schemas['Rules'];
  rule?: Schemas['RuleInfo'];
  draft: Rule;
  name: string;
  setName: (n: string) => void;
  on: boolean;
  setOn: (on: boolean) => void;
  wrong: Schemas['Complaint'][];
}

/** The rule's name, whether it acts, and what is done with the form. */
export function RuleHead({ b, rules, rule, draft, name, setName, on, setOn, wrong }: HeadProps) {
  const toast = useToast();
  const navigate = useNavigate();
  const params = { path: { bucket: b.name, rule: rule?.name ?? name } };
  const back = `/buckets/${b.name}/lifecycle`;
  const save = useChange(() =>
    ask(
      api.PUT('/api/v1/buckets/{bucket}/lifecycle/rules/{rule}', {
        params,
        body: { rule: draft, new: !rule, ifRevision: rules.revision || -1 },
      }),
    ),
  );
  const remove = useChange(() =>
    ask(
      api.DELETE('/api/v1/buckets/{bucket}/lifecycle/rules/{rule}', {
        params: { ...params, query: { ifRevision: rules.revision } },
      }),
    ),
  );
  const may = b.rights.includes('settings');
  const nameless = wrong.find((c) => c.field === 'name');
  const shown = wrong.filter((c) => rule || c.code !== 'actions-none').length;
  return (
    <>
      <div className="small faint mb-2">
        <Link className="key" to={bucketPage(b.name)}>
          {b.name}
        </Link>
        , <Link to={back}>lifecycle</Link>
      </div>
      <div className="pagehead">
        <h1 className="row">
          <span className="faint font-medium">Rule</span>
          {rule ? (
            rule.name
          ) : (
            <span className="field w-250">
              <input
                aria-label="Name of the rule"
                value={name}
                onChange={(e) => setName(e.target.value)}
                placeholder="old-plates"
                autoFocus
              />
            </span>
          )}
        </h1>
        <div className="row gap-18">
          {shown ? <span className="text-madder small">{things(shown, 'fault')}</span> : null}
          <Switch on={on} onChange={setOn}>
            {on ? 'on' : 'off'}
          </Switch>
          {rule && may ? (
            <button
              type="button"
              className="btn harm"
              disabled={remove.isPending}
              onClick={() =>
                remove.mutate(undefined, {
                  onSuccess: () => {
                    toast(`The rule ${rule.name} is gone; the history keeps it`);
                    void navigate(back, decided);
                  },
                })
              }
            >
              Remove
            </button>
          ) : null}
          <button type="button" className="btn" onClick={() => void navigate(back, decided)}>
            Discard
          </button>
          {may ? (
            <button
              type="button"
              className="btn main"
              disabled={wrong.length > 0 || !name || save.isPending}
              onClick={() =>
                save.mutate(undefined, {
                  onSuccess: (r) => {
                    toast(r.acts ? 'Saved. It waits ten minutes in which it can be taken back' : 'Saved');
                    void navigate(back, decided);
                  },
                })
              }
            >
              Save rule
            </button>
          ) : null}
        </div>
      </div>
      {nameless && name ? <Complaint error={{ message: nameless.detail, remedy: nameless.remedy }} /> : null}
      {save.error || remove.error ? <Complaint error={(save.error ?? remove.error) as Problem} /> : null}
    </>
  );
}
