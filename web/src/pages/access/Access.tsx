import { lazy } from 'react';
import { Link, useParams } from 'react-router';

import { useAdministers, useSession } from '../../data/session';
import Nowhere from '../Nowhere';

const sections = [
  { id: '', name: 'Who reaches what', admin: true, page: lazy(() => import('./Reach')) },
  { id: 'keys', name: 'Keys', admin: true, page: lazy(() => import('./Keys')) },
  { id: 'grants', name: 'Grants', admin: true, page: lazy(() => import('./Grants')) },
  { id: 'people', name: 'People', admin: true, page: lazy(() => import('./People')) },
  { id: 'accounts', name: 'Accounts', admin: false, page: lazy(() => import('./Accounts')) },
  { id: 'sessions', name: 'Sessions', admin: false, page: lazy(() => import('./Sessions')) },
  { id: 'trail', name: 'Audit trail', admin: true, page: lazy(() => import('./Trail')) },
];

/** Accounts, people, keys and grants: who may do what. */
export default function Access() {
  const { section = '' } = useParams();
  const session = useSession();
  const administers = useAdministers();
  const mine = sections.filter((s) => administers || !s.admin);
  const here = mine.find((s) => s.id === section) ?? (section === '' ? mine[0] : undefined);
  if (!here) return <Nowhere />;
  const Page = here.page;
  return (
    <>
      <div className="pagehead">
        <div>
          <h1>Access</h1>
          <p className="meta">
            <span>
              {session.name} is {session.operator ? 'operator of the service' : `${session.role} in ${session.account}`}
            </span>
            {administers ? null : <span>who administers {session.account} sees keys, grants and people here</span>}
          </p>
        </div>
        <div id="access-actions" className="row" />
      </div>
      <nav className="strung" aria-label="Access">
        {mine.map((s) => (
          <Link key={s.id} to={s.id ? `/access/${s.id}` : '/access'} aria-current={s === here ? 'page' : undefined}>
            {s.name}
          </Link>
        ))}
      </nav>
      <Page />
    </>
  );
}
