// What a device is told to reach a broker that Havrel runs, and the accounts of the broker with what each may do.

import { useQuery } from '@tanstack/react-query';
import { Copy, Download } from 'lucide-react';
import { useState } from 'react';
import { toast } from 'sonner';
import { http, newId, take } from '../../../api/client';
import type { Item } from '../../../api/model';
import { commit, useItems } from '../../../api/queries';
import { useGo } from '../../../app/view';
import { draftOf, keepDraft } from '../../../parts/draft';
import { complain } from '../../../parts/form';
import { save } from '../../../parts/save';
import { counted, moment } from '../../../parts/text';
import { Button, Confirm, Field, Input } from '../../../parts/ui';
import { useLater } from '../later';
import {
  type Account,
  accountsOf,
  freeName,
  type Given,
  newPassword,
  type Right,
  rightsWords,
  sheet,
  type View,
} from './account';
import { AccountForm, draftName } from './account-form';

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

/** Most accounts that are shown. */
const MOST = 500;
/** From so many on they are found by words. */
const MANY = 12;

/** How a broker fares; nothing while it does not run. */
export function useBroker(item: Item<'connection'>) {
  return useQuery({
    queryKey: ['items', 'broker', item.id],
    queryFn: () => take(http.GET('/api/connections/{id}/broker', { params: { path: { id: item.id } } })),
    enabled: item.set.enabled,
    refetchInterval: 2000,
    retry: false,
    staleTime: 0,
  });
}

/** Where one comes from a refusal: the account, and the right that it lacks. */
export const wishName = (item: Item<'connection'>) => `broker wish ${item.id}`;

export interface Wish {
  account: string;
  right: Right;
}

export function Accounts({ item, seen, disabled }: Props) {
  const go = useGo();
  const all = accountsOf(item);
  const [wish] = useState(() => draftOf(wishName(item)) as Wish | undefined);
  const wished = all.find(({ name }) => name === wish?.account);
  /** The account that is changed, or `new`. What was typed before comes back. */
  const [open, setOpen] = useState<string | null>(() => {
    if (wished) return wished.id;
    if (draftOf(draftName(item, undefined)) !== undefined) return 'new';
    return all.find(({ id }) => draftOf(draftName(item, id)) !== undefined)?.id ?? null;
  });
  const [given, setGiven] = useState<Given[]>([]);
  const [leaving, setLeaving] = useState<Account | null>(null);
  const broker = useBroker(item);
  const connections = (useItems('connection').data?.items ?? []).map(({ set }) => set);
  const close = () => {
    keepDraft(wishName(item), undefined);
    setOpen(null);
  };
  const remove = (one: Account) => {
    setLeaving(null);
    const settings = { ...item.set.settings, accounts: all.filter(({ id }) => id !== one.id) };
    const why = `Removed the account ${one.name} of ${item.set.name}`;
    return commit(why, seen, [{ op: 'patch', kind: 'connection', id: item.id, set: { settings } }]).catch(complain);
  };

  /** An account for Havrel, and a connection that hears the broker with it. */
  async function hear(view: View) {
    const local = view.addresses.find(({ websocket, secured }) => !websocket && !secured);
    const at = local ?? view.addresses.find(({ websocket }) => !websocket);
    if (!at) return;
    const [name, password] = [freeName(all, 'havrel'), { secret: newPassword() }];
    const rights: Right[] = [
      { topics: '#', may: 'both' },
      { topics: '$SYS/#', may: 'receive' },
    ];
    const account: Account = { id: newId(), name, password, note: 'By which Havrel itself hears and publishes.', rights };
    const host = item.set.settings.reach === 'address' ? at.host : '127.0.0.1';
    const secured = at.secured ? { transport: 'tls', tls: { fingerprint: view.fingerprint } } : {};
    const id = newId();
    const settings = { host, port: at.port, user: name, password, ...secured };
    try {
      // The account first: the connection would be refused before the broker knows it.
      const accounts = [...all, account];
      const known = await commit(`Added the account ${name} of ${item.set.name}`, seen, [
        { op: 'patch', kind: 'connection', id: item.id, set: { settings: { ...item.set.settings, accounts } } },
      ]);
      const called = freeName(connections, `Topics of ${item.set.name}`);
      await commit(`Added a connection that hears ${item.set.name}`, known, [
        { op: 'create', kind: 'connection', id, set: { name: called, kind: 'mqtt', writing: false, settings } },
      ]);
      toast.success('Added. It hears every topic of the broker.');
      go({ connection: id, part: 'intake' });
    } catch (error) {
      complain(error);
    }
  }

  const before = all.find(({ id }) => id === open);
  return (
    <div>
      {!open && <Reached item={item} view={broker.data} />}
      {given.length > 0 && <Made given={given} view={broker.data} onClose={() => setGiven([])} />}
      {open && (open === 'new' || before) && (
        <AccountForm
          key={open}
          item={item}
          seen={seen}
          before={before}
          wished={wished && wished.id === open ? wish?.right : undefined}
          onSaved={setGiven}
          onClose={close}
        />
      )}
      {!open && (
        <List
          item={item}
          all={all}
          view={broker.data}
          disabled={disabled}
          onChange={(one) => setOpen(one.id)}
          onRemove={setLeaving}
        />
      )}
      {!open && (
        <div className="flex gap-2">
          <Button kind={all.length === 0 ? 'main' : 'plain'} disabled={disabled} onClick={() => setOpen('new')}>
            Add accounts
          </Button>
          {broker.data && (
            <Button disabled={disabled} onClick={() => broker.data && void hear(broker.data)}>
              Hear its topics with Havrel
            </Button>
          )}
        </div>
      )}
      <Confirm
        open={leaving !== null}
        title={`Remove the account ${leaving?.name ?? ''}?`}
        action="Remove account"
        grave={false}
        onConfirm={() => leaving && void remove(leaving)}
        onClose={() => setLeaving(null)}
      >
        <p>Its clients are disconnected at once. Undo in the Journal brings the account back with the same password.</p>
      </Confirm>
    </div>
  );
}

/** Ports of a broker, in the order in which they are shown. */
const PORTS = [
  ['In clear', { secured: false, websocket: false }],
  ['Secured by TLS', { secured: true, websocket: false }],
  ['WebSocket', { secured: false, websocket: true }],
  ['WebSocket, secured', { secured: true, websocket: true }],
] as const;

/** Addresses and ports as one types them into a device. */
function Reached({ item, view }: { item: Item<'connection'>; view: View | undefined }) {
  if (!item.set.enabled) return <p className="mb-3 text-soft">The broker is switched off. Resume starts it.</p>;
  if (!view) return null;
  const hosts = [...new Set(view.addresses.map(({ host }) => host))];
  const at = (host: string, port: (typeof PORTS)[number][1]) =>
    view.addresses.find((one) => one.host === host && one.secured === port.secured && one.websocket === port.websocket)?.port;
  const ports = PORTS.filter(([, port]) => hosts.some((host) => at(host, port)));
  return (
    <section aria-label="What to enter in a device" className="mb-3">
      <h3 className="mb-1 font-semibold">What to enter in a device</h3>
      <div className="max-h-40 w-fit overflow-auto border border-line">
        <table className="text-left">
          <thead className="sticky top-0 bg-band text-sm">
            <tr>
              <th className="min-w-56 px-2 font-semibold">Host</th>
              {ports.map(([name]) => (
                <th key={name} className="min-w-36 px-2 text-right font-semibold">
                  Port, {name.startsWith('Web') ? name : name.toLowerCase().replace('tls', 'TLS')}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {hosts.map((host) => (
              <tr key={host} className="h-7 border-t border-line">
                <td className="figures px-2">{host}</td>
                {ports.map(([name, port]) => (
                  <td key={name} className="figures px-2 text-right">
                    {at(host, port)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="mt-1 text-soft">
        MQTT 3.1.1 or 5; user and password of an account below
        {view.addresses.some((one) => one.websocket) && '; path /mqtt for WebSocket'}.
        {(item.set.settings.reach ?? 'machine') === 'machine' && ' Only programs of this machine reach it; the settings open it.'}
      </p>
      {view.certificate && (
        <div className="mt-1 flex flex-wrap items-center gap-3 text-soft">
          <Button
            onClick={() => save('broker.pem', new Blob([view.certificate], { type: 'application/x-pem-file' }))}
            title="For devices that ask for the certificate of an authority"
          >
            <Download className="size-4" /> Certificate
          </Button>
          <span className="min-w-0 text-sm">
            {view.certificate_until && `Valid until ${moment(view.certificate_until)}. `}Fingerprint (SHA-256):
            <span className="figures block text-xs break-all">{view.fingerprint}</span>
          </span>
        </div>
      )}
    </section>
  );
}

/** Passwords that were just made, which nobody can read again. */
function Made({ given, view, onClose }: { given: Given[]; view: View | undefined; onClose: () => void }) {
  const text = sheet(given, view);
  return (
    <section role="status" aria-label="Passwords" className="mb-3 max-w-4xl rounded border border-teal p-2">
      <div className="mb-1 flex flex-wrap items-center gap-3">
        <span>Copy {given.length === 1 ? 'the password' : 'the passwords'} now, they are not shown again:</span>
        <Button
          className="ml-auto"
          onClick={() =>
            void navigator.clipboard.writeText(text).then(
              () => toast.success('Copied.'),
              () => toast.error('The browser does not allow copying; select the text and copy it.'),
            )
          }
        >
          <Copy className="size-4" /> Copy
        </Button>
        <Button onClick={() => save('accounts.csv', new Blob([text], { type: 'text/csv' }))}>
          <Download className="size-4" /> CSV
        </Button>
        <Button kind="quiet" onClick={onClose}>
          Done
        </Button>
      </div>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
      <ul tabIndex={0} className="max-h-40 overflow-auto">
        {given.map(({ name, password }) => (
          <li key={name} className="flex gap-6">
            <span className="figures w-56 truncate">{name}</span>
            <code className="figures">{password}</code>
          </li>
        ))}
      </ul>
    </section>
  );
}

interface ListProps {
  item: Item<'connection'>;
  all: Account[];
  view: View | undefined;
  disabled: boolean;
  onChange: (account: Account) => void;
  onRemove: (account: Account) => void;
}

function List({ item, all, view, disabled, onChange, onRemove }: ListProps) {
  const [find, setFind] = useState('');
  const [topics, setTopics] = useState('');
  const asked = useLater(topics.trim(), 300);
  const allowed = useQuery({
    queryKey: ['items', 'allowed', item.id, item.revision, asked],
    queryFn: () =>
      take(http.GET('/api/connections/{id}/broker/allowed', { params: { path: { id: item.id }, query: { topics: asked } } })),
    enabled: asked !== '',
    retry: false,
  });
  const wanted = find.trim().toLowerCase();
  const found = all.filter((one) => `${one.name} ${one.note ?? ''} ${rightsWords(one)}`.toLowerCase().includes(wanted));
  const connected = new Map(view?.accounts.map(({ account, clients }) => [account, clients]));
  const may = new Map(allowed.data?.map((one) => [one.account, one]));
  if (all.length === 0) {
    return (
      <p className="mb-2 max-w-3xl text-soft">
        There is no account yet. Each device gets one of its own: with it the device may publish and receive on the topics that
        its rights name, and on no others.
      </p>
    );
  }
  const showing = asked !== '' && topics.trim() !== '' && allowed.data !== undefined;
  return (
    <section aria-label="Accounts" className="mb-2">
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <h3 className="mr-auto font-semibold">{counted(all.length, 'account')}</h3>
        {all.length > MANY && (
          <Field label="Find an account" className="w-56">
            {(p) => <Input {...p} value={find} onChange={(e) => setFind(e.target.value)} />}
          </Field>
        )}
        <Field
          label="Check a topic for all accounts"
          className="w-72"
          error={allowed.error instanceof Error ? allowed.error.message : undefined}
        >
          {(p) => (
            <Input
              {...p}
              className="figures"
              placeholder="site/meter-1/power"
              value={topics}
              onChange={(e) => setTopics(e.target.value)}
            />
          )}
        </Field>
      </div>
      <div className="max-h-[45vh] overflow-auto border border-line">
        <table className="w-full min-w-[50rem] text-left">
          <thead className="sticky top-0 z-10 bg-band text-sm">
            <tr>
              <th className="w-44 px-2 font-semibold">Account</th>
              <th className="px-2 font-semibold">May</th>
              {showing && <th className="w-40 px-2 font-semibold">On this topic</th>}
              <th className="w-24 px-2 text-right font-semibold">Clients</th>
              <th className="w-44 px-2" />
            </tr>
          </thead>
          <tbody>
            {found.slice(0, MOST).map((one) => (
              <tr key={one.id} className="h-8 border-t border-line align-top">
                <td className="px-2 pt-1">
                  <span className="figures font-semibold">{one.name}</span>
                  {one.enabled === false && <span className="text-soft"> switched off</span>}
                  {!one.password && <span className="block text-sm text-act3">has no password; change it to get one</span>}
                  {one.note && <span className="block text-sm text-soft">{one.note}</span>}
                </td>
                <td className="figures px-2 pt-1 break-all whitespace-normal">{rightsWords(one)}</td>
                {showing && <td className="px-2 pt-1">{mayWords(may.get(one.name))}</td>}
                <td className="figures px-2 pt-1 text-right">{view ? (connected.get(one.name) ?? 0) : '–'}</td>
                <td className="px-2 text-right whitespace-nowrap">
                  <Button disabled={disabled} aria-label={`Change ${one.name}`} onClick={() => onChange(one)}>
                    Change
                  </Button>{' '}
                  <Button kind="quiet" disabled={disabled} aria-label={`Remove ${one.name}…`} onClick={() => onRemove(one)}>
                    Remove…
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {found.length > MOST && (
          <p className="border-t border-line px-2 py-1 text-soft">and {(found.length - MOST).toLocaleString('en')} more</p>
        )}
      </div>
    </section>
  );
}

function mayWords(may: { publishes: boolean; receives: boolean } | undefined): string {
  if (!may) return 'nothing, switched off';
  if (may.publishes) return may.receives ? 'publishes and receives' : 'publishes';
  return may.receives ? 'receives' : 'nothing';
}
