import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';

import { Problem, type Schemas, problemOf } from '../../api/client';
import { postLines } from '../../api/lines';
import type { Endpoint, EndpointStep } from '../../data/replication';
import { Complaint, Field } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { about, aboutNone } from '../../parts/Form';
import { Switch } from '../../parts/Switch';
import { useToast } from '../../parts/Toasts';
import { parseSize, size } from '../../parts/format';
import { Steps } from './Steps';

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
    void queries.invalidateQueries({ queryKey: ['live', 'endpoints'] });
    return done;
  };
  return { steps, busy, problem, run };
}

/** Adds an endpoint or changes one; it is checked step by step before it is saved. */
export function EndpointForm({ endpoint, onClose }: { endpoint?: Endpoint; onClose: () => void }) {
  const toast = useToast();
  const [f, setF] = useState({
    name: endpoint?.name ?? '',
    url: endpoint?.url ?? '',
    key: endpoint?.key ?? '',
    secret: '',
    note: endpoint?.note ?? '',
    bandwidth: endpoint?.bandwidth ? size(endpoint.bandwidth) : '',
    bucket: endpoint?.bucket ?? '',
    write: false,
  });
  const set = (n: keyof typeof f) => (e: { target: { value: string } }) => setF({ ...f, [n]: e.target.value });
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
      <div className="grid grid-cols-[1fr_1fr] gap-12">
        {endpoint ? null : (
          <Field label="Name" name="name" value={f.name} onChange={set('name')} autoFocus error={about(e, 'name')} />
        )}
        <Field
          label="Address"
          mono
          name="url"
          value={f.url}
          onChange={set('url')}
          placeholder="https://store.example"
          error={about(e, 'url')}
        />
        <Field label="Key" mono name="key" value={f.key} onChange={set('key')} error={about(e, 'key')} />
        <Field
          label="Secret"
          type="password"
          name="secret"
          value={f.secret}
          onChange={set('secret')}
          placeholder={endpoint ? 'as it is' : ''}
          error={about(e, 'secret')}
        />
        <Field
          label="Bucket that checks look at"
          mono
          name="bucket"
          value={f.bucket}
          onChange={set('bucket')}
          placeholder="the first the key sees"
          error={about(e, 'bucket')}
        />
        <Field
          label="Bytes a second at the most"
          name="bandwidth"
          value={f.bandwidth}
          onChange={set('bandwidth')}
          placeholder="no limit"
          error={about(e, 'bandwidth')}
        />
        <Field label="What it is" name="note" value={f.note} onChange={set('note')} className="col-span-2" />
      </div>
      <div className="mt-10">
        <Switch on={f.write} onChange={(v) => setF({ ...f, write: v })}>
          Also put, read and remove small objects there, which finds out more
        </Switch>
      </div>
      <p className="small faint mt-6">Region and style are found out.</p>
      {check.steps.length || check.busy ? (
        <div className="mt-12">
          <Steps steps={check.steps} busy={check.busy} />
        </div>
      ) : null}
      {aboutNone(e, 'name', 'url', 'key', 'secret', 'bucket', 'bandwidth') ? <Complaint error={e} /> : null}
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
