// System: the accounts of those who use Havrel, their sessions, and one's own password.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../api/client';
import { queries, useMay, useSession } from '../../api/queries';
import { useContacts } from '../../parts/contacts';
import { complain, type Form, useForm } from '../../parts/form';
import { counted, moment } from '../../parts/text';
import { Button, Choice, Confirm, DeskHead, Field, FormTrouble, Input, Trouble } from '../../parts/ui';
import { ContactForm } from './contact-form';

type Account = Schemas['AccountView'];

const ROLES = [
  { role: 'viewer', may: 'sees everything, makes reports' },
  { role: 'operator', may: 'also acknowledges, writes, sets by hand, leaves notes' },
  { role: 'engineer', may: 'also configures, and manages accounts' },
] as const;

const again = () => queries.invalidateQueries({ queryKey: ['accounts'] });

export function System() {
  const engineer = useMay('engineer');
  return (
    <>
      <DeskHead path="Havrel" title="System" note={engineer ? 'accounts, call-out and sessions' : 'your call-out and password'} />
      <div className="max-w-5xl space-y-6">
        {engineer && <Accounts />}
        <OwnContact />
        <OwnPassword />
      </div>
    </>
  );
}

function Accounts() {
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: () => take(http.GET('/api/accounts')), staleTime: 0 });
  const [open, setOpen] = useState<string | null>(null);
  return (
    <section aria-label="Accounts">
      <h2 className="mb-2 font-semibold">Accounts</h2>
      <Trouble error={accounts.error} />
      {accounts.data && (
        <table className="mb-3 w-full table-fixed border border-line bg-raised text-left">
          <thead className="bg-band text-sm">
            <tr className="h-8">
              <th className="px-2 font-semibold">Name</th>
              <th className="w-32 px-2 font-semibold">Role</th>
              <th className="w-24 px-2 font-semibold">State</th>
              <th className="w-40 px-2 font-semibold">Last used</th>
              <th className="w-28 px-2 font-semibold">Sessions</th>
              <th className="w-88 px-2" aria-label="Actions" />
            </tr>
          </thead>
          <tbody>
            {accounts.data.map((account) => (
              <Row
                key={account.id}
                account={account}
                open={open === account.id}
                onOpen={() => setOpen(open === account.id ? null : account.id)}
              />
            ))}
          </tbody>
        </table>
      )}
      <AddAccount />
    </section>
  );
}

async function change(account: Account, body: Schemas['AccountPatch']): Promise<boolean> {
  try {
    await take(http.PATCH('/api/accounts/{id}', { params: { path: { id: account.id } }, body }));
    return true;
  } catch (error) {
    complain(error);
    return false;
  } finally {
    await again();
  }
}

function Row({ account, open, onOpen }: { account: Account; open: boolean; onOpen: () => void }) {
  const [asked, setAsked] = useState<'disable' | 'password' | 'contact' | null>(null);
  const contact = useContacts().find((one) => one.account === account.id);
  return (
    <>
      <tr className="h-9 border-t border-line">
        <td className="truncate px-2">
          {account.name}
          {account.own && <span className="text-soft"> (you)</span>}
          {contact?.mail && <span className="block truncate text-sm text-soft">{contact.mail}</span>}
        </td>
        <td className="px-2">
          <Choice
            aria-label={`Role of ${account.name}`}
            value={account.role}
            onChange={(e) => void change(account, { role: e.target.value })}
          >
            {ROLES.map(({ role }) => (
              <option key={role}>{role}</option>
            ))}
          </Choice>
        </td>
        <td className={account.disabled ? 'px-2 font-semibold' : 'px-2 text-soft'}>
          {account.disabled ? 'disabled' : 'enabled'}
        </td>
        <td className={account.seen_at ? 'figures truncate px-2 text-soft' : 'truncate px-2 text-soft'}>
          {account.seen_at ? moment(account.seen_at) : 'not signed in'}
        </td>
        <td className="px-2">
          {account.sessions > 0 ? (
            <Button kind="quiet" aria-expanded={open} onClick={onOpen}>
              {counted(account.sessions, 'session')}
            </Button>
          ) : (
            <span className="px-2 text-soft">none</span>
          )}
        </td>
        <td className="space-x-1 px-2 text-right whitespace-nowrap">
          {contact && (
            <Button kind="quiet" onClick={() => setAsked('contact')}>
              Call-out…
            </Button>
          )}
          <Button kind="quiet" onClick={() => setAsked('password')}>
            New password…
          </Button>
          {account.disabled ? (
            <Button kind="quiet" onClick={() => void change(account, { disabled: false })}>
              Enable
            </Button>
          ) : (
            <Button kind="quiet" onClick={() => setAsked('disable')}>
              Disable…
            </Button>
          )}
        </td>
      </tr>
      {open && account.sessions > 0 && (
        <tr>
          <td colSpan={6} className="border-t border-line bg-paper px-4 py-2">
            <Sessions account={account} />
          </td>
        </tr>
      )}
      {asked === 'contact' && contact && (
        <tr>
          <td colSpan={6} className="border-t border-line bg-paper px-4 py-2">
            <ContactForm contact={contact} onClose={() => setAsked(null)} />
          </td>
        </tr>
      )}
      {asked === 'password' && (
        <tr>
          <td colSpan={6} className="border-t border-line bg-paper px-4 py-2">
            <NewPassword account={account} onClose={() => setAsked(null)} />
          </td>
        </tr>
      )}
      <Confirm
        open={asked === 'disable'}
        title={`Disable the account “${account.name}”?`}
        action="Disable"
        onClose={() => setAsked(null)}
        onConfirm={() => {
          setAsked(null);
          void change(account, { disabled: true });
        }}
      >
        <p>
          Nobody can sign in with it any more, and {counted(account.sessions, 'session')} end at once. It can be enabled again;
          what it did stays in the journal.
        </p>
      </Confirm>
    </>
  );
}

/** What a browser is, in a few words: the whole text it sends is long and says little. */
function browserOf(text: string): string {
  const program = /(Firefox|Edg|OPR|Chrome|Safari)/.exec(text)?.[1] ?? '';
  const names: Record<string, string> = { Edg: 'Edge', OPR: 'Opera' };
  const system = /(Windows|Android|iPhone|iPad|Mac OS X|Linux)/.exec(text)?.[1] ?? '';
  const words = [names[program] ?? program, system].filter(Boolean).join(' on ');
  return words || text || 'unknown program';
}

function Sessions({ account }: { account: Account }) {
  const path = { id: account.id };
  const sessions = useQuery({
    queryKey: ['accounts', account.id, 'sessions', account.sessions],
    queryFn: () => take(http.GET('/api/accounts/{id}/sessions', { params: { path } })),
    staleTime: 0,
  });
  const end = async (session?: string) => {
    try {
      if (session) {
        await take(http.DELETE('/api/accounts/{id}/sessions/{session}', { params: { path: { ...path, session } } }));
      } else {
        await take(http.DELETE('/api/accounts/{id}/sessions', { params: { path } }));
      }
    } catch (error) {
      complain(error);
    }
    await again();
  };
  return (
    <>
      <Trouble error={sessions.error} />
      <ul className="mb-2" aria-label={`Sessions of ${account.name}`}>
        {sessions.data?.map((session) => (
          <li key={session.id} className="flex items-center gap-4 py-0.5">
            <span className="w-56 truncate" title={session.browser}>
              {browserOf(session.browser)}
            </span>
            <span className="w-40 text-soft">
              from <span className="figures">{session.address}</span>
            </span>
            <span className="text-soft">
              since <span className="figures">{moment(session.made_at)}</span>, used{' '}
              <span className="figures">{moment(session.seen_at)}</span>
            </span>
            {session.own ? (
              <span className="ml-auto text-soft">this browser</span>
            ) : (
              <Button className="ml-auto" onClick={() => void end(session.id)}>
                End session
              </Button>
            )}
          </li>
        ))}
      </ul>
      <Button onClick={() => void end()}>{account.own ? 'End all my sessions, this one too' : 'End all sessions'}</Button>
    </>
  );
}

interface PasswordProps<T> {
  label: string;
  form: Form<T>;
  field: keyof T & string;
  hint?: string;
  className?: string;
  /** The one that counts now; otherwise a new one. */
  current?: boolean;
  autoFocus?: boolean;
}

function Password<T extends Record<string, string>>({
  label,
  form,
  field,
  hint,
  className,
  current,
  autoFocus,
}: PasswordProps<T>) {
  return (
    <Field label={label} error={form.error(field)} hint={hint} className={className ?? 'w-56'}>
      {(p) => (
        <Input
          {...p}
          type="password"
          autoComplete={current ? 'current-password' : 'new-password'}
          autoFocus={autoFocus}
          value={form.values[field]}
          onChange={(e) => form.set(field, e.target.value as T[typeof field])}
        />
      )}
    </Field>
  );
}

function NewPassword({ account, onClose }: { account: Account; onClose: () => void }) {
  const form = useForm({ password: '' }, ['password']);
  return (
    <form
      className="flex flex-wrap items-start gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void form
          .run(({ password }) =>
            take(http.PATCH('/api/accounts/{id}', { params: { path: { id: account.id } }, body: { password } })),
          )
          .then(async (done) => {
            if (!done) return;
            toast.success(`${account.name} has a new password.`);
            onClose();
            await again();
          });
      }}
    >
      <Password
        label={`New password of ${account.name}`}
        form={form}
        field="password"
        hint="At least 8 characters. Their sessions end."
        className="w-72"
        autoFocus
      />
      <Button kind="main" type="submit" className="mt-5" disabled={form.busy}>
        Set password
      </Button>
      <Button className="mt-5" onClick={onClose}>
        Cancel
      </Button>
      <FormTrouble form={form} className="w-full" />
    </form>
  );
}

function AddAccount() {
  const empty = { name: '', role: 'operator', password: '' };
  const form = useForm(empty, ['name', 'role', 'password']);
  return (
    <form
      aria-label="Add an account"
      className="flex flex-wrap items-start gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        void form
          .run((body) => take(http.POST('/api/accounts', { body })))
          .then(async (done) => {
            if (!done) return;
            form.reset(empty);
            await again();
          });
      }}
    >
      <Field label="Name" error={form.error('name')} className="w-56">
        {(p) => (
          <Input {...p} placeholder="Shift lead" value={form.values.name} onChange={(e) => form.set('name', e.target.value)} />
        )}
      </Field>
      <Field
        label="Role"
        error={form.error('role')}
        hint={ROLES.find(({ role }) => role === form.values.role)?.may}
        className="w-64"
      >
        {(p) => (
          <Choice {...p} value={form.values.role} onChange={(e) => form.set('role', e.target.value)}>
            {ROLES.map(({ role }) => (
              <option key={role}>{role}</option>
            ))}
          </Choice>
        )}
      </Field>
      <Password label="Password" form={form} field="password" hint="At least 8 characters." />
      <Button kind="main" type="submit" className="mt-5" disabled={form.busy}>
        Add account
      </Button>
      <FormTrouble form={form} className="w-full" />
    </form>
  );
}

function OwnContact() {
  const contact = useContacts().find((one) => one.own);
  if (!contact) return null;
  return (
    <section aria-label="Call-out">
      <h2 className="mb-1 font-semibold">Where you are told of alarms</h2>
      <p className="mb-2 text-soft">Call-out plans name you, or your crew; this says where you are reached, and when.</p>
      <ContactForm key={contact.mail} contact={contact} />
    </section>
  );
}

function OwnPassword() {
  const session = useSession();
  const empty = { current: '', password: '' };
  const form = useForm(empty, ['current', 'password']);
  return (
    <section aria-label="Your password">
      <h2 className="mb-1 font-semibold">Your password</h2>
      <p className="mb-2 text-soft">You are signed in as {session.data?.name}. A new password signs out your other browsers.</p>
      <form
        className="flex flex-wrap items-start gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          void form
            .run((body) => take(http.POST('/api/session/password', { body })))
            .then(async (done) => {
              if (!done) return;
              form.reset(empty);
              toast.success('Your password is changed.');
              await again();
            });
        }}
      >
        <Password label="Current password" form={form} field="current" current />
        <Password label="New password" form={form} field="password" hint="At least 8 characters." />
        <Button type="submit" className="mt-5" disabled={form.busy}>
          Change password
        </Button>
        <FormTrouble form={form} className="w-full" />
      </form>
    </section>
  );
}
