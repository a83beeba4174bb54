import { type QueryClient, useQuery, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, createContext, useContext, useEffect } from 'react';

import {
  type Schemas,
  Problem,
  accountHere,
  api,
  ask,
  basenameOf,
  onSignedOut,
  setForgery,
  settleAccount,
  unsettleAccount,
} from '../api/client';
import { NewPassword, SignIn } from '../pages/SignIn';
import { still } from './keys';

const Session = createContext<Schemas['SessionInfo'] | null>(null);

/** Who is signed in. Only beneath a SessionGate. */
export function useSession(): Schemas['SessionInfo'] {
  const s = useContext(Session);
  if (!s) throw new Error('useSession outside of a session');
  return s;
}

/** Whether who is signed in administers the account that the session acts in. */
export const useAdministers = () => {
  const s = useSession();
  return s.operator || s.role === 'administrator';
};

/** Forgets what another session has read. */
const forgetRest = (queries: QueryClient) => queries.removeQueries({ predicate: (q) => q.queryKey[0] !== 'session' });

/** Shows the sign-in page until somebody is signed in. */
export function SessionGate({ children }: { children: ReactNode }) {
  const queries = useQueryClient();
  const session = useQuery({
    queryKey: still('session'),
    queryFn: () => ask(api.GET('/api/v1/session')),
    staleTime: Infinity,
  });
  useEffect(() => onSignedOut(() => queries.setQueryData(still('session'), null)), [queries]);
  const enter = (s: Schemas['SessionInfo']) => {
    setForgery(s.forgery);
    forgetRest(queries);
    const named = accountHere(); // by the address, before anybody was signed in
    if (named && named !== s.account && !s.accounts?.some((a) => a.account === named)) unsettleAccount();
    settleAccount(s.account);
    if (s.account === accountHere()) queries.setQueryData(still('session'), s);
    else void session.refetch(); // as the account that the address names
  };
  if (session.isPending) return null;
  if (session.data) {
    setForgery(session.data.forgery);
    settleAccount(session.data.account);
    const leave = () => queries.setQueryData(still('session'), null);
    if (session.data.mustChange)
      return (
        <NewPassword
          session={session.data}
          onChanged={leave}
          onLeave={() => void ask(api.DELETE('/api/v1/session')).then(leave)}
        />
      );
    return <Session value={session.data}>{children}</Session>;
  }
  if (session.error instanceof Problem && session.error.status === 403 && accountHere()) {
    unsettleAccount(); // who is signed in has no role in it
    void session.refetch();
    return null;
  }
  const unreachable = session.error instanceof Problem && session.error.status !== 401 ? session.error : null;
  return <SignIn onSignedIn={enter} trouble={unreachable} />;
}

export function useSignOut() {
  const queries = useQueryClient();
  return async () => {
    await ask(api.DELETE('/api/v1/session'));
    forgetRest(queries);
    queries.setQueryData(still('session'), null);
  };
}

/** Goes to a page of another account, in this tab alone. */
export function actIn(account: string, page = '/') {
  sessionStorage.setItem(arrived, account);
  location.assign(basenameOf(account) + page);
}

const arrived = 'spindle-arrived';

/** The account that this tab was just switched to, once; null otherwise. */
export function takeArrived(): string | null {
  const account = sessionStorage.getItem(arrived);
  sessionStorage.removeItem(arrived);
  return account;
}
