import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';

import { Problem, type Schemas, problemOf } from '../../api/client';
import { postLines } from '../../api/lines';
import type { Endpoint, EndpointStep } from '../../data/replication';
import { Complaint, Field } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { WithError } from '../../parts/Form';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { parseSize, size } from '../../parts/format';
import { Steps } from './Steps';
import { useFields } from '../../parts/useFields';
import { live } from '../../data/keys';

/** Watches a check: its steps as they are done, and what it came to. */
export function useCheck() {
  const [steps, setSteps] = useState<Schemas['Finding'][]>([]);
  const [busy, setBusy] = useState(false);
  const [problem, setProblem] = useState<Problem | null>(null);
  const queries = useQueryClient();
  const run = async (body: object): Promise<Endpoint | null> => {
    setSteps([]);
    setProblem(null);
    setBusy(true);
    let done: Endpoint | null = null;
    try {
      await postLines<EndpointStep>('/api/v1/endpoints/check', body, (s) => {
        if (s.finding) setSteps((all) => [...all.filter((x) => x.field !== s.finding!.field), s.finding!]);
        if (s.problem) setProblem(problemOf(s.problem.status ?? 0, s.problem));
        if (s.endpoint) done = s.endpoint;
      });
    } catch (e) {
      setProblem(e as Problem);
    }
    setBusy(false);
    void queries.invalidateQueries({ queryKey: live('endpoints') });
    return done;
  };
  return { steps, busy, problem, run };
}

/** Adds an endpoint or changes one; it is checked step by step before it is saved. */
export function EndpointForm({ endpoint, onClose }: { endpoint?: Endpoint; onClose: () => void }) {
  const toast = useToast();
  const [f, set, fields] = useFields({
    name: endpoint?.name ?? '',
    url: endpoint?.url ?? '',
    key: endpoint?.key ?? '',
    secret: '',
    note: endpoint?.note ?? '',
    bandwidth: endpoint?.bandwidth ? size(endpoint.bandwidth) : '',
    bucket: endpoint?.bucket ?? '',
    write: false,
  });
  const check = useCheck();
  const save = async (anyway: boolean) => {
    const changed = <T,>(now: T, was: T) => (endpoint && now === was ? undefined : now);
    const done = await check.run({
      name: endpoint?.name ?? f.name,
      change: !!endpoint,
      ifRevision: endpoint?.revision,
      url: changed(f.url, endpoint?.url),
      key: changed(f.key, endpoint?.key),
      secret: f.secret || undefined,
      note: f.note,
      bandwidth: f.bandwidth.trim() ? (parseSize(f.bandwidth) ?? 0) : 0,
      bucket: changed(f.bucket, endpoint?.bucket ?? ''),
      write: f.write,
      anyway,
    });
    if (!done) return;
    toast(`The endpoint ${done.name} is saved: ${done.health.state}`);
    onClose();
  };
  const e = check.problem;
  const of = fields(e);
  const refused = e?.code === 'endpoint-check';
  return (
    <Dialog
      open
      onClose={onClose}
      title={endpoint ? `The endpoint ${endpoint.name}` : 'Add an endpoint'}
      width={660}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            Cancel
          </button>
          {refused ? (
            <button type="button" className="btn" disabled={check.busy} onClick={() => void save(true)}>
              Save it anyway
            </button>
          ) : null}
          <button
            type="button"
            className="btn main"
            disabled={check.busy || !(endpoint ?? (f.name && f.url && f.key && f.secret))}
            onClick={() => void save(false)}
          >
            {check.busy ? 'Checking' : 'Check and save'}
          </button>
        </>
      }
    >
      <WithError error={e}>
        <div className="grid grid-cols-[1fr_1fr] gap-12">
          {endpoint ? null : <Field label="Name" {...of('name')} autoFocus />}
          <Field label="Address" mono {...of('url')} placeholder="https://store.example" />
          <Field label="Key" mono {...of('key')} />
          <Field label="Secret" type="password" {...of('secret')} placeholder={endpoint ? 'as it is' : ''} />
          <Field label="Bucket that checks look at" mono {...of('bucket')} placeholder="the first the key sees" />
          <Field label="Bytes a second at the most" {...of('bandwidth')} placeholder="no limit" />
          <Field label="What it is" {...of('note')} className="col-span-2" />
        </div>
        <div className="mt-10">
          <Switch on={f.write} onChange={(v) => set({ write: v })}>
            Also put, read and remove small objects there, which finds out more
          </Switch>
        </div>
        <p className="small faint mt-6">Region and style are found out.</p>
        {check.steps.length || check.busy ? (
          <div className="mt-12">
            <Steps steps={check.steps} busy={check.busy} />
          </div>
        ) : null}
      </WithError>
    </Dialog>
  );
}

/** Checks an endpoint as it is, at once. */
export function CheckDialog({ endpoint, onClose }: { endpoint: string; onClose: () => void }) {
  const check = useCheck();
  const begun = useRef(false);
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    void check.run({ name: endpoint, check: true });
  }, [check, endpoint]);
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Check of ${endpoint}`}
      width={640}
      footer={
        <>
          <button
            type="button"
            className="btn"
            disabled={check.busy}
            onClick={() => void check.run({ name: endpoint, check: true })}
          >
            Check again
          </button>
          <button type="button" className="btn main" onClick={onClose}>
            Close
          </button>
        </>
      }
    >
      <Steps steps={check.steps} busy={check.busy} />
      {check.problem ? <Complaint error={check.problem} /> : null}
    </Dialog>
  );
}
