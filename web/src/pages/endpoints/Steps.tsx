import type { Schemas } from '../../api/client';
import { Shape, State, type StateKind } from '../../parts/Marks';

const kinds: Record<string, StateKind> = { agrees: 'good', wrong: 'wrong', 'not tried': 'wait', 'not used': 'none' };

const names: Record<string, string> = {
  address: 'Name and address',
  port: 'Port',
  protocol: 'Protocol',
  certificate: 'Certificate',
  clock: 'Clock',
  region: 'Region',
  style: 'Style',
  key: 'Key',
  bucket: 'Bucket',
  'there-and-back': 'There and back',
  abilities: 'Abilities',
};

/** The steps of a check, as they are done. */
export const Steps = ({ steps, busy }: { steps: Schemas['Finding'][]; busy: boolean }) => (
  <table className="tight" aria-live="polite">
    <tbody>
      {steps.map((s) => (
        <tr key={s.field}>
          <td className="w-130">{names[s.field] ?? s.field}</td>
          <td className="w-90">
            <State kind={kinds[s.result] ?? 'none'}>{s.result}</State>
          </td>
          <td className={s.result === 'agrees' || s.result === 'wrong' ? 'wrap-any' : 'dim'}>
            {s.seen}
            {s.result === 'wrong' && s.remedy ? <span className="block small dim">To mend it: {s.remedy}</span> : null}
          </td>
        </tr>
      ))}
      {busy ? (
        <tr>
          <td colSpan={3} className="run">
            <Shape kind="run" size={11} /> looking
          </td>
        </tr>
      ) : null}
    </tbody>
  </table>
);
