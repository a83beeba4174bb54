import { type FormEvent, type ReactNode, useEffect, useRef, useState } from 'react';
import { Link, useLocation, useNavigate, useSearchParams } from 'react-router';

import { useBuckets, useLive, useOverview } from '../data/queries';
import { useSession, useSignOut, useSwitch } from '../data/session';
import { Dialog } from './Dialog';
import { Logo, Shape, State, type StateKind, dyeOf, icons } from './Marks';
import { useToast } from './Toasts';
import { WorkLine } from './WorkLine';
import { bucketPage, count, objectPage, time } from './format';
import { type Theme, applyTheme, storedTheme } from './theme';
import { Select, same } from './Select';

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
  const buckets = useBuckets();
  const overview = useOverview(7);
  const worst = overview.data?.concerns[0]?.state;
  const trouble: StateKind | undefined = worst === 'wrong' ? 'wrong' : worst === 'attention' ? 'warn' : undefined;
  const items: { name: string; to: string; here: boolean; n?: string; gap?: boolean; mark?: StateKind }[] = [
    { name: 'Overview', to: '/', here: pathname === '/', mark: trouble },
    { name: 'Buckets', to: '/buckets', here: pathname.startsWith('/buckets'), n: buckets.data ? count(buckets.data.buckets.length) + (buckets.data.next ? '+' : '') : '', gap: true },
    { name: 'Uploads', to: '/uploads', here: pathname.startsWith('/uploads'), n: overview.data?.unfinished.uploads ? count(overview.data.unfinished.uploads) : '' },
    { name: 'Journal', to: '/journal', here: pathname.startsWith('/journal'), gap: true },
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
          {items.map((i) => (
            <li key={i.name} className={i.gap ? 'gap' : ''} aria-current={i.here ? 'page' : undefined}>
              <span className={`bead ${i.mark && !i.here ? dyeOf(i.mark) : ''}`}>{i.mark && !i.here ? <Shape kind={i.mark} size={11} /> : <i />}</span>
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
                {i.mark ? <em className="sr">{i.mark === 'wrong' ? 'something is wrong' : 'needs attention'}</em> : null}
              </Link>
            </li>
          ))}
        </ul>
      </nav>
    </aside>
  );
}

/** What the address line shows for the page that one looks at. */
function useHere(): string {
  const { pathname } = useLocation();
  const [query] = useSearchParams();
  const m = /^\/buckets\/([^/]+)(\/object)?/.exec(pathname);
  if (!m) return '';
  return `${decodeURIComponent(m[1]!)}/${(m[2] ? query.get('key') : query.get('prefix')) ?? ''}`;
}

function AddressLine({ field, onHelp }: { field: React.RefObject<HTMLInputElement | null>; onHelp: () => void }) {
  const navigate = useNavigate();
  const here = useHere();
  const [text, setText] = useState(here);
  useEffect(() => setText(here), [here]);
  const session = useSession();
  const signOut = useSignOut();
  const live = useLive();
  const [theme, setTheme] = useState<Theme>(storedTheme());
  const go = (e: FormEvent) => {
    e.preventDefault();
    const [bucket, ...rest] = text.trim().replace(/^\/+/, '').split('/');
    const key = rest.join('/');
    if (!bucket) return;
    field.current?.blur();
    void navigate(key === '' || key.endsWith('/') ? bucketPage(bucket, key) : objectPage(bucket, key));
  };
  const turn = () => {
    const next: Theme = theme === 'auto' ? 'dark' : theme === 'dark' ? 'light' : 'auto';
    applyTheme(next);
    setTheme(next);
  };
  return (
    <div className="addressline">
      <form onSubmit={go} role="search" className="field go mono">
        <span className="faint">{icons.find}</span>
        <input ref={field} value={text} onChange={(e) => setText(e.target.value)} onKeyDown={(e) => e.key === 'Escape' && (setText(here), field.current?.blur())}
          placeholder="Go to an address: bucket/prefix/ or bucket/key" aria-label="Address" spellCheck={false} />
        <span className="hint kbd">/</span>
      </form>
      <div className="end">
        {live.connected && live.upTo ? (
          <span className="state good">
            <Shape kind="good" />
            <span className="dim">live, complete up to {time(live.upTo)}</span>
          </span>
        ) : (
          <State kind="wait">not connected{live.upTo ? `, last heard ${time(live.upTo)}` : ''}</State>
        )}
        <Account />
        <span className="wide" title={session.key ? `Signed in with the key ${session.key}` : `${session.operator ? 'Operator' : session.role} in ${session.account}`}>{session.name}</span>
        <button type="button" className="link" onClick={turn} title="Change between light, dark and the system's choice">
          {theme}
        </button>
        <button type="button" className="link" onClick={() => void signOut()}>
          Sign out
        </button>
        <button type="button" className="row gap-5" onClick={onHelp}>
          keys <span className="kbd">?</span>
        </button>
      </div>
    </div>
  );
}

/** The account that the session acts in, to be switched by those with several. */
function Account() {
  const session = useSession();
  const change = useSwitch();
  const navigate = useNavigate();
  const toast = useToast();
  if (session.accounts.length < 2)
    return (
      <span className="wide">
        account <b className="strong text-ink">{session.account}</b>
      </span>
    );
  const to = async (account: string) => {
    try {
      await change(account);
      void navigate('/');
      toast(`Acting in ${account} now`);
    } catch (e) {
      toast((e as Error).message);
    }
  };
  return (
    <span className="row gap-6">
      account
      <Select className="field sel w-auto" value={session.account} onChange={(account) => void to(account)} label="Account to act in" options={same(session.accounts.map((a) => a.account))} />
    </span>
  );
}

const keys: [string, string][] = [
  ['/', 'Go to an address'],
  ['?', 'These keys'],
  ['Up and Down', 'Move through a list of objects'],
  ['Space', 'Choose the object one is on'],
  ['Enter', 'Open it'],
  ['Del', 'Remove what is chosen; it asks first'],
  ['Esc', 'Close a dialog, leave a field'],
];

const Keys = ({ onClose }: { onClose: () => void }) => (
  <Dialog open onClose={onClose} title="Keys" width={400} footer={<button type="button" className="btn" onClick={onClose}>Close</button>}>
    <dl className="facts">
      {keys.map(([k, what]) => (
        <div className="contents" key={k}>
          <dt>
            <span className="kbd">{k}</span>
          </dt>
          <dd>{what}</dd>
        </div>
      ))}
    </dl>
  </Dialog>
);
