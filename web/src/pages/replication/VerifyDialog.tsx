import { useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';

import { Problem, type Schemas, problemOf } from '../../api/client';
import { postLines } from '../../api/lines';
import type { VerifyStep } from '../../data/replication';
import { Complaint } from '../../parts/Bits';
import { Dialog } from '../../parts/Dialog';
import { State } from '../../parts/Marks';
import { Switch } from '../../parts/Switch';
import { count, things, visible } from '../../parts/format';
import { live } from '../../data/keys';

const most = 200; // differences that are shown

/** Compares both sides of a rule, object by object, and repairs what differs when that is wanted. */
export function VerifyDialog({ rule, onClose }: { rule: string; onClose: () => void }) {
  const queries = useQueryClient();
  const [deep, setDeep] = useState(false);
  const [repair, setRepair] = useState(false);
  const [busy, setBusy] = useState(false);
  const [far, setFar] = useState<Record<string, Schemas['VerifyInfo'] & { done?: boolean }>>({});
  const [diffs, setDiffs] = useState<{ key: string; what: string; says: string; target: string }[]>([]);
  const [problem, setProblem] = useState<Problem | null>(null);
  const stop = useRef<AbortController | null>(null);
  useEffect(() => () => stop.current?.abort(), []);
  const run = async () => {
    setBusy(true);
    setFar({});
    setDiffs([]);
    setProblem(null);
    stop.current = new AbortController();
    try {
      await postLines<VerifyStep>(
        `/api/v1/replications/${encodeURIComponent(rule)}/verify`,
        { deep, repair },
        (s) => {
          const at = s.target ?? '';
          if (s.difference) setDiffs((all) => (all.length < most ? [...all, { ...s.difference!, target: at }] : all));
          const info = s.result ?? s.progress;
          if (info) setFar((all) => ({ ...all, [at]: { ...info, done: !!s.result } }));
          if (s.problem) setProblem(problemOf(s.problem.status ?? 0, s.problem));
        },
        stop.current.signal,
      );
    } catch (e) {
      setProblem(e as Problem);
    }
    setBusy(false);
    void queries.invalidateQueries({ queryKey: live('replication', rule) });
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="Compare both sides"
      width={680}
      footer={
        <>
          <button type="button" className="btn" onClick={onClose}>
            Close
          </button>
          <button type="button" className="btn main" disabled={busy} onClick={() => void run()}>
            {busy ? 'Comparing' : repair ? 'Compare and repair' : 'Compare'}
          </button>
        </>
      }
    >
      <p className="mb-10">
        Every object of the source is looked for there: key, size, and what was confirmed of content and metadata when
        it was copied. What is there alone is told of and never removed.
      </p>
      <div className="row gap-22">
        <Switch on={deep} onChange={setDeep} disabled={busy}>
          Ask for each object there
        </Switch>
        <Switch on={repair} onChange={setRepair} disabled={busy}>
          Copy again what differs
        </Switch>
      </div>
      {Object.entries(far).map(([target, v]) => (
        <p key={target} className="mt-12" role="status">
          <span className="key">{target}</span>:{' '}
          {v.done ? (
            <State kind={v.good ? 'good' : 'wrong'}>{v.good ? 'all there as they are' : 'something differs'}</State>
          ) : (
            <State kind="run">comparing</State>
          )}{' '}
          <span className="dim">
            {things(v.objects, 'object')} compared, {count(v.missing)} missing, {count(v.other)} another,{' '}
            {count(v.extra)} there alone, {count(v.waiting)} waiting
            {v.repaired ? `, ${count(v.repaired)} copied again` : ''}
          </span>
        </p>
      ))}
      {diffs.length ? (
        <table className="tight mt-10">
          <tbody>
            {diffs.map((d) => (
              <tr key={d.target + d.key + d.what}>
                <td className="w-80">{d.what}</td>
                <td className="key cut max-w-360" title={visible(d.key)}>
                  {visible(d.key)}
                </td>
                <td className="dim">{d.says}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : null}
      {diffs.length === most ? <p className="small faint">The first {most} are shown.</p> : null}
      {problem ? <Complaint error={problem} /> : null}
    </Dialog>
  );
}
