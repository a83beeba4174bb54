import { useMutation } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';

import { type Problem, type Schemas, api, ask } from '../api/client';
import { Field, Trouble } from '../parts/Bits';
import { Logo } from '../parts/Marks';

interface Props {
  onSignedIn: (s: Schemas['SessionInfo']) => void;
  trouble: Problem | null;
}

export function SignIn({ onSignedIn, trouble }: Props) {
  const [key, setKey] = useState('');
  const [secret, setSecret] = useState('');
  const enter = useMutation({ mutationFn: () => ask(api.POST('/api/v1/session', { body: { key, secret } })), onSuccess: onSignedIn });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  return (
    <div className="center">
      <form className="signin" onSubmit={submit}>
        <div className="row" style={{ gap: 10, marginBottom: 14 }}>
          <Logo width={28} tail={false} />
          <h1>Sign in to Spindle</h1>
        </div>
        {trouble ? <Trouble error={trouble} /> : null}
        <div style={{ display: 'grid', gap: 12, marginTop: 8 }}>
          <Field label="Access key" mono value={key} onChange={(e) => setKey(e.target.value)} autoFocus name="key" autoComplete="username" />
          <Field label="Secret" type="password" value={secret} onChange={(e) => setSecret(e.target.value)} name="secret" autoComplete="current-password" error={enter.error} />
          <div className="spread" style={{ marginTop: 6 }}>
            <span className="small faint">The key that the service printed when it first started, or one made since.</span>
            <button type="submit" className="btn main" disabled={!key || !secret || enter.isPending}>
              Sign in
            </button>
          </div>
        </div>
      </form>
    </div>
  );
}
