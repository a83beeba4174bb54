import { useMutation } from '@tanstack/react-query';
import { ToggleGroup } from 'radix-ui';
import { type FormEvent, type ReactNode, useState } from 'react';

import { Problem, type Schemas, api, ask } from '../api/client';
import { Field, Trouble } from '../parts/Bits';
import { Logo } from '../parts/Marks';

interface Props {
  onSignedIn: (s: Schemas['SessionInfo']) => void;
  trouble: Problem | null;
}

type How = 'person' | 'key';

const remembered = 'spindle-sign-in';

/** Signs in as a person with a name and a password, or with an access key. */
export function SignIn({ onSignedIn, trouble }: Props) {
  const [how, setHow] = useState<How>(localStorage.getItem(remembered) === 'key' ? 'key' : 'person');
  const [name, setName] = useState('');
  const [secret, setSecret] = useState('');
  const enter = useMutation({
    mutationFn: () =>
      ask(
        api.POST('/api/v1/session', {
          body: how === 'person' ? { person: name, password: secret } : { key: name, secret },
        }),
      ),
    onSuccess: (s) => {
      localStorage.setItem(remembered, how);
      onSignedIn(s);
    },
  });
  const choose = (v: string) => {
    if (!v) return;
    setHow(v as How);
    setName('');
    setSecret('');
    enter.reset();
  };
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <Sheet title="Sign in to Spindle" onSubmit={submit}>
      {trouble ? <Trouble error={trouble} /> : null}
      <div className="grid gap-12 mt-8">
        <ToggleGroup.Root
          type="single"
          className="seg justify-self-start"
          value={how}
          onValueChange={choose}
          aria-label="Sign in as"
        >
          <ToggleGroup.Item value="person">As a person</ToggleGroup.Item>
          <ToggleGroup.Item value="key">With an access key</ToggleGroup.Item>
        </ToggleGroup.Root>
        <Field
          key={how}
          label={how === 'person' ? 'Name' : 'Access key'}
          mono={how === 'key'}
          value={name}
          onChange={(e) => setName(e.target.value)}
          autoFocus
          name={how}
          autoComplete="username"
        />
        <Field
          label={how === 'person' ? 'Password' : 'Secret'}
          type="password"
          value={secret}
          onChange={(e) => setSecret(e.target.value)}
          name="secret"
          autoComplete="current-password"
          error={enter.error}
        />
        <div className="spread mt-6">
          <span className="small faint">
            {how === 'person'
              ? 'Forgotten? An administrator gives a new password, or the machine does: spindle access person reset.'
              : 'The key that the service printed when it first started, or one made since.'}
          </span>
          <button type="submit" className="btn main" disabled={!name || !secret || enter.isPending}>
            Sign in
          </button>
        </div>
      </div>
    </Sheet>
  );
}

/** The page of somebody whose password was given by somebody else. */
export function NewPassword({
  session,
  onChanged,
  onLeave,
}: {
  session: Schemas['SessionInfo'];
  onChanged: () => void;
  onLeave: () => void;
}) {
  const [old, setOld] = useState('');
  const [fresh, setFresh] = useState('');
  const [again, setAgain] = useState('');
  const change = useMutation({
    mutationFn: () => ask(api.POST('/api/v1/session/password', { body: { password: old, new: fresh } })),
    onSuccess: onChanged,
  });
  const problem = change.error instanceof Problem ? change.error : null;
  const differs =
    again && fresh !== again
      ? new Problem(0, 'The two differ', 'differs', 'again', 'Type the new password twice')
      : null;
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (!differs) change.mutate();
  };
  return (
    <Sheet title="Choose a password" onSubmit={submit}>
      <p className="dim">
        The password of {session.person} was given by somebody else. Choose one that only you know; you then sign in
        with it.
      </p>
      <div className="grid gap-12 mt-8">
        <Field
          label="The password you were given"
          type="password"
          value={old}
          onChange={(e) => setOld(e.target.value)}
          autoFocus
          name="old"
          autoComplete="current-password"
          error={problem?.field === 'password' ? problem : null}
        />
        <Field
          label="New password"
          type="password"
          value={fresh}
          onChange={(e) => setFresh(e.target.value)}
          name="new"
          autoComplete="new-password"
          hint="10 characters at least."
          error={problem && problem.field !== 'password' ? problem : null}
        />
        <Field
          label="New password, again"
          type="password"
          value={again}
          onChange={(e) => setAgain(e.target.value)}
          name="again"
          autoComplete="new-password"
          error={differs}
        />
        <div className="spread mt-6">
          <button type="button" className="link" onClick={onLeave}>
            Sign out
          </button>
          <button type="submit" className="btn main" disabled={!old || !fresh || fresh !== again || change.isPending}>
            Change the password
          </button>
        </div>
      </div>
    </Sheet>
  );
}

const Sheet = ({
  title,
  onSubmit,
  children,
}: {
  title: string;
  onSubmit: (e: FormEvent) => void;
  children: ReactNode;
}) => (
  <div className="center">
    <form className="signin" onSubmit={onSubmit}>
      <div className="row gap-10 mb-14">
        <Logo width={28} tail={false} />
        <h1>{title}</h1>
      </div>
      {children}
    </form>
  </div>
);
