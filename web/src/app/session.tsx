// Who is here: the first account, signing in, and the way out.

import { type FormEvent, type ReactNode, useEffect, useState } from 'react';
import { http, onSignedOut, Refused, take } from '../api/client';
import { feed } from '../api/live';
import { queries, useSession } from '../api/queries';
import { dropDrafts } from '../parts/draft';
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

/** The one-time code that the printed address carries behind its #; it is taken out of the address once it is read. */
function codeOfAddress(): string {
  const found = /[#&]code=([A-Za-z0-9-]+)/.exec(location.hash)?.[1] ?? '';
  if (found) history.replaceState(history.state, '', location.pathname + location.search);
  return found;
}

/** Read once: the address forgets it. */
const given = codeOfAddress();

function Door({ first }: { first: boolean }) {
  const [code, setCode] = useState(given);
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [error, setError] = useState<Refused | null>(null);
  const [busy, setBusy] = useState(false);

  async function enter(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    try {
      const body = { name, password };
      const state = await take(
        first ? http.POST('/api/session/first', { body: { ...body, code } }) : http.POST('/api/session', { body }),
      );
      // Whatever an earlier person was shown is forgotten.
      queries.removeQueries({ predicate: (q) => q.queryKey[0] !== 'session' });
      dropDrafts(name);
      queries.setQueryData(['session'], state);
    } catch (reason) {
      setError(reason instanceof Refused ? reason : new Refused(0, String(reason)));
    } finally {
      setBusy(false);
    }
  }

  const wrongCode = first ? error?.field('code') : undefined;
  const other = error && !error.field('name') && !error.field('password') && !wrongCode ? error : null;
  return (
    <main className="flex min-h-full items-center justify-center p-6">
      <form onSubmit={enter} className="w-80 space-y-3 rounded-md border border-line bg-raised p-6">
        <div className="flex items-center gap-2">
          <img src="/mark.svg" alt="" className="size-7" />
          <h1 className="text-[1.25rem] font-semibold">{first ? 'Create the first account' : 'Sign in to Havrel'}</h1>
        </div>
        {first && (
          <p className="text-soft">
            It belongs to an engineer, who may change everything. Use a role name, such as “Plant engineer”.
          </p>
        )}
        {first && (!given || wrongCode) && (
          <Field label="One-time code" error={wrongCode} hint="The start command printed it. A new one: havrel account code">
            {(p) => <Input {...p} value={code} onChange={(e) => setCode(e.target.value)} autoFocus={!given} />}
          </Field>
        )}
        <Field label="Name" error={error?.field('name')}>
          {(p) => (
            <Input
              {...p}
              value={name}
              onChange={(e) => setName(e.target.value)}
              autoComplete="username"
              autoFocus={!first || Boolean(given)}
            />
          )}
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
          {first ? 'Create account' : 'Sign in'}
        </Button>
      </form>
    </main>
  );
}
