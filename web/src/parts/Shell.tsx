import { type ReactNode, useEffect, useRef, useState } from 'react';
import { Link, useLocation } from 'react-router';

import { useBucketCount, useOverview } from '../data/queries';
import { useAdministers } from '../data/session';
import { AddressLine } from './AddressLine';
import { Keys } from './Keys';
import { Logo, Shape, type StateKind, dyeOf } from './Marks';
import { WorkLine } from './WorkLine';
import { count } from './format';

/** The shell around every page: rail, address line, page, work line. */
export function Shell({ children }: { children: ReactNode }) {
  const [help, setHelp] = useState(false);
  const address = useRef<HTMLInputElement>(null);
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      const el = e.target as HTMLElement;
      if (el.closest('input,textarea,select,[role=dialog]') || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === '/') {
        e.preventDefault();
        address.current?.focus();
        address.current?.select();
      } else if (e.key === '?') setHelp(true);
    };
    addEventListener('keydown', press);
    return () => removeEventListener('keydown', press);
  }, []);
  return (
    <div className="shell">
      <Rail />
      <AddressLine field={address} onHelp={() => setHelp(true)} />
      <main>{children}</main>
      <WorkLine />
      {help ? <Keys onClose={() => setHelp(false)} /> : null}
    </div>
  );
}

function Rail() {
  const { pathname } = useLocation();
  const buckets = useBucketCount();
  const overview = useOverview(7);
  const administers = useAdministers();
  const worst = overview.data?.concerns[0]?.state;
  const trouble: StateKind | undefined = worst === 'wrong' ? 'wrong' : worst === 'attention' ? 'warn' : undefined;
  const items: {
    name: string;
    to: string;
    here: boolean;
    n?: string;
    gap?: boolean;
    mark?: StateKind;
    admin?: true;
  }[] = [
    { name: 'Overview', to: '/', here: pathname === '/' || pathname === '/clock', mark: trouble },
    {
      name: 'Buckets',
      to: '/buckets',
      here: pathname.startsWith('/buckets'),
      n: buckets.data ?? '',
      gap: true,
    },
    { name: 'Find', to: '/find', here: pathname.startsWith('/find') },
    {
      name: 'Uploads',
      to: '/uploads',
      here: pathname.startsWith('/uploads'),
      n: overview.data?.unfinished.uploads ? count(overview.data.unfinished.uploads) : '',
    },
    { name: 'Thread map', to: '/replication', admin: true, here: pathname.startsWith('/replication'), gap: true },
    { name: 'Sync', to: '/sync', admin: true, here: pathname.startsWith('/sync') },
    { name: 'Endpoints', to: '/endpoints', admin: true, here: pathname.startsWith('/endpoints') },
    { name: 'Tiers', to: '/tiers', here: pathname.startsWith('/tiers') },
    { name: 'Regions', to: '/regions', here: pathname.startsWith('/regions') },
    { name: 'Placements', to: '/placements', here: pathname.startsWith('/placements') },
    { name: 'Journal', to: '/journal', here: pathname.startsWith('/journal'), gap: true },
    { name: 'Census', to: '/census', admin: true, here: pathname.startsWith('/census') },
    { name: 'Usage', to: '/usage', admin: true, here: pathname.startsWith('/usage') },
    { name: 'Audit', to: '/audit', admin: true, here: pathname.startsWith('/audit') },
    { name: 'Charters', to: '/charters', admin: true, here: pathname.startsWith('/charters') },
    { name: 'Access', to: '/access', here: pathname.startsWith('/access'), gap: true },
    { name: 'Connect', to: '/connect', here: pathname.startsWith('/connect') },
  ];
  return (
    <aside className="rail">
      <div className="brand">
        <Logo />
        <b>Spindle</b>
      </div>
      <nav aria-label="Sections">
        <ul>
          {items
            .filter((i) => administers || !i.admin)
            .map((i) => (
              <li key={i.name} className={i.gap ? 'gap' : ''} aria-current={i.here ? 'page' : undefined}>
                <span className={`bead ${i.mark && !i.here ? dyeOf(i.mark) : ''}`}>
                  {i.mark && !i.here ? <Shape kind={i.mark} size={11} /> : <i />}
                </span>
                <Link to={i.to}>
                  <span>{i.name}</span>
                  {i.n || (i.mark && i.here) ? (
                    <span>
                      {i.mark && i.here ? (
                        <i className={dyeOf(i.mark)}>
                          <Shape kind={i.mark} size={11} />
                        </i>
                      ) : null}
                      {i.n}
                    </span>
                  ) : null}
                  {i.mark ? (
                    <em className="sr">{i.mark === 'wrong' ? 'something is wrong' : 'needs attention'}</em>
                  ) : null}
                </Link>
              </li>
            ))}
        </ul>
      </nav>
    </aside>
  );
}
