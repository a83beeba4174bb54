import { type ReactNode, createContext, useContext, useEffect, useId, useRef, useState } from 'react';
import { type Location, useBlocker } from 'react-router';

import { Dialog } from './Dialog';

const Unsaved = createContext<(form: string, changed: boolean) => void>(() => {});

/** Goes with a step to another page that settles what is in the forms: nothing is asked. */
export const decided = { state: { decided: true } };

/** Whether what a page shows stays the same: its forms live on. */
const samePage = (a: Location, b: Location) =>
  a.pathname === b.pathname &&
  new URLSearchParams(a.search).get('key') === new URLSearchParams(b.search).get('key') &&
  new URLSearchParams(a.search).get('version') === new URLSearchParams(b.search).get('version');

/** Asks before a page is left on which something was changed and is not saved. */
export function UnsavedGuard({ children }: { children: ReactNode }) {
  const forms = useRef(new Set<string>());
  const [note] = useState(() => (form: string, changed: boolean) => {
    if (changed) forms.current.add(form);
    else forms.current.delete(form);
  });
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) =>
      forms.current.size > 0 &&
      !samePage(currentLocation, nextLocation) &&
      !(nextLocation.state as { decided?: boolean } | null)?.decided,
  );
  useEffect(() => {
    const warn = (e: BeforeUnloadEvent) => forms.current.size > 0 && e.preventDefault();
    addEventListener('beforeunload', warn);
    return () => removeEventListener('beforeunload', warn);
  }, []);
  const stay = () => blocker.reset?.();
  return (
    <Unsaved value={note}>
      {children}
      <Dialog
        open={blocker.state === 'blocked'}
        onClose={stay}
        title="What you changed here is not saved"
        about="It is lost when you leave this page."
        width={440}
        footer={
          <>
            <button type="button" className="btn" autoFocus onClick={stay}>
              Stay
            </button>
            <button type="button" className="btn harm" onClick={() => blocker.proceed?.()}>
              Leave without saving
            </button>
          </>
        }
      >
        {null}
      </Dialog>
    </Unsaved>
  );
}

/** Has the page be asked about before it is left, as long as a form in it holds something that is not saved. */
export function useUnsaved(changed: boolean) {
  const note = useContext(Unsaved);
  const form = useId();
  useEffect(() => {
    note(form, changed);
    return () => note(form, false);
  }, [note, form, changed]);
}
