import type { ReactNode } from 'react';
import { Outlet } from 'react-router';

import { useAdministers, useSession } from '../data/session';

/** Says why something is not offered, where it would stand. */
export const NotOffered = ({ children }: { children: ReactNode }) => (
  <p className="note" role="note">
    {children}
  </p>
);

/** Pages for those who administer the account; others are told so. */
export function Administered() {
  const session = useSession();
  return useAdministers() ? (
    <Outlet />
  ) : (
    <NotOffered>
      This page is for those who administer the account {session.account}; you are signed in as its {session.role}. An
      administrator of it can give you another role.
    </NotOffered>
  );
}
