// Who is here: the first account, signing in, and the way out.

import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { http, onSignedOut, Refused, take } from '../api/client';
import { feed } from '../api/live';
import { queries, useSession } from '../api/queries';
import { Button, Field, Input, Trouble } from '../parts/ui';

export async function signOut() {
  await take(http.DELETE('/api/session'));
  await queries.invalidateQueries({ queryKey: ['session'] });
}

/** Shows the application to whoever is signed in, and the door to everybody else. */
export function SignedIn({ children }: { children: ReactNode }) {
  const session = useSession();
  const signedIn = session.data?.signed_in ?? false;
  useEffect(() => onSignedOut(() => void queries.invalidateQueries({ queryKey: ['session'] })), []);
  useEffect(() => {
    if (!signedIn) return;
    feed.start();
    return () => feed.stop();
  }, [signedIn]);
  if (session.isPending) return null;
  if (session.error) {
    return (
      <main className="mx-auto max-w-md p-10">
        <Trouble error={session.error} />
      </main>
    );
  }
  return signedIn ? children : <Door first={session.data.needs_first} />;
}

function Door({ first }: { first: boolean }) {
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [error, setError] = useState<Refused | null>(null);
  const [busy, setBusy] = useState(false);

  async function enter(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    try {
      const body = { name, password };
      const state = await take(first ? http.POST('/api/session/first', { body }) : http.POST('/api/session', { body }));
      // Whatever an earlier person was shown is forgotten.
      queries.removeQueries({ predicate: (q) => q.queryKey[0] !== 'session' });
      queries.setQueryData(['session'], state);
    } catch (reason) {
      setError(reason instanceof Refused ? reason : new Refused(0, String(reason)));
    } finally {
      setBusy(false);
    }
  }

  const other = error && !error.field('name') && !error.field('password') ? error : null;
  return (
    <main className="flex min-h-full items-center justify-center p-6">
      <form onSubmit={enter} className="w-80 space-y-3 rounded-md border border-line bg-raised p-6">
        <div className="flex items-center gap-2">
          <img src="/mark.svg" alt="" className="size-7" />
          <h1 className="text-[1.25rem] font-semibold">{first ? 'Make the first account' : 'Sign in to Havrel'}</h1>
        </div>
        {first && (
          <p className="text-soft">
            It belongs to an engineer, who may change everything. Use a role name, such as “Plant engineer”.
          </p>
        )}
        <Field label="Name" error={error?.field('name')}>
          {(p) => <Input {...p} value={name} onChange={(e) => setName(e.target.value)} autoComplete="username" autoFocus />}
        </Field>
        <Field label="Password" error={error?.field('password')} hint={first ? 'At least 8 characters.' : undefined}>
          {(p) => (
            <Input
              {...p}
              type="password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              autoComplete={first ? 'new-password' : 'current-password'}
            />
          )}
        </Field>
        <Trouble error={other} />
        <Button kind="main" type="submit" disabled={busy} className="w-full justify-center">
          {first ? 'Make account' : 'Sign in'}
        </Button>
      </form>
    </main>
  );
}
