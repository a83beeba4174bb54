import type { StateKind } from '../../parts/Marks';

/** The shapes of what rules and targets do. */
export const ruleShape: Record<string, StateKind> = {
  'keeps up': 'good',
  'not yet looked at': 'wait',
  behind: 'run',
  missed: 'warn',
  late: 'warn',
  'some fail': 'warn',
  failing: 'wrong',
  stopped: 'wrong',
  paused: 'off',
};

/** The shapes of how endpoints stand. */
export const endpointShape: Record<string, StateKind> = {
  'not checked': 'wait',
  healthy: 'good',
  slow: 'warn',
  failing: 'wrong',
  unreachable: 'wrong',
  refusing: 'wrong',
};

/** The shapes of how objects stand at a target. */
export const replicaShape: Record<string, StateKind> = {
  pending: 'wait',
  completed: 'good',
  failed: 'wrong',
  'not in scope': 'none',
};

/** A time as lags are told: seconds, within a factor of two. */
export function span(s: number): string {
  if (!s) return '0 s';
  if (s < 1) return `${Math.round(s * 1000)} ms`;
  if (s < 90) return `${s < 10 ? s.toFixed(1) : Math.round(s)} s`;
  if (s < 5400) return `${Math.round(s / 60)} min`;
  return s < 172_800 ? `${Math.round(s / 3600)} h` : `${Math.round(s / 86_400)} days`;
}

/** How long ago something was, or how long something has waited. */
export const since = (at: string, now = Date.now()) => span(Math.max(0, (now - Date.parse(at)) / 1000));
