import { type FormEvent, useEffect, useState } from 'react';
import { useLocation, useNavigate, useSearchParams } from 'react-router';

import { useLive } from '../data/live';
import { actIn, takeArrived, useSession, useSignOut } from '../data/session';
import { Shape, State, icons } from './Marks';
import { Select, same } from './Select';
import { useToast } from './Toasts';
import { bucketPage, objectPage, time } from './format';
import { type Theme, applyTheme, storedTheme } from './theme';

/** What the address line shows for the page that one looks at. */
function useHere(): string {
  const { pathname } = useLocation();
  const [query] = useSearchParams();
  const m = /^\/buckets\/([^/]+)(\/object)?/.exec(pathname);
  if (!m) return '';
  return `${decodeURIComponent(m[1]!)}/${(m[2] ? query.get('key') : query.get('prefix')) ?? ''}`;
}

export function AddressLine({
  field,
  onHelp,
}: {
  field: React.RefObject<HTMLInputElement | null>;
  onHelp: () => void;
}) {
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
        <input
          ref={field}
          value={text}
          onChange={(e) => setText(e.target.value)}
          onKeyDown={(e) => e.key === 'Escape' && (setText(here), field.current?.blur())}
          placeholder="Go to an address: bucket/prefix/ or bucket/key"
          aria-label="Address"
          spellCheck={false}
        />
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
        <span
          className="wide"
          title={
            session.key
              ? `Signed in with the key ${session.key}`
              : `${session.operator ? 'Operator' : session.role} in ${session.account}`
          }
        >
          {session.name}
        </span>
        <button
          type="button"
          className="link"
          onClick={turn}
          title="Change between light, dark and the system's choice"
        >
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
  const toast = useToast();
  useEffect(() => {
    const account = takeArrived();
    if (account) toast(`Acting in ${account} now`);
  }, [toast]);
  if (session.accounts.length < 2)
    return (
      <span className="wide">
        account <b className="strong text-ink">{session.account}</b>
      </span>
    );
  return (
    <span className="row gap-6">
      account
      <Select
        className="field sel w-auto"
        value={session.account}
        onChange={(account) => actIn(account)}
        label="Account to act in"
        options={same(session.accounts.map((a) => a.account))}
      />
    </span>
  );
}
