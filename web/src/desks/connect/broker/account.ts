// Accounts of a broker that Havrel runs: what they are made of, passwords for them, and what a device must be told.

import { newId, type Schemas } from '../../../api/client';
import type { Item } from '../../../api/model';

export interface Right {
  /** A filter of topics; {account} stands for the name of the account. */
  topics: string;
  may: 'publish' | 'receive' | 'both';
}

export interface Account {
  id: string;
  name: string;
  password?: { secret: string } | { kept: true } | null;
  enabled?: boolean;
  note?: string;
  rights: Right[];
}

export type View = Schemas['BrokerView'];

export const MAY = { publish: 'publishes', receive: 'receives', both: 'publishes and receives' } as const;

export const accountsOf = (item: Item<'connection'>): Account[] => (item.set.settings.accounts ?? []) as Account[];

/** What an account may do, in a line. */
export function rightsWords({ rights, name }: Account): string {
  if (rights.length === 0) return 'nothing yet';
  return rights.map(({ topics, may }) => `${MAY[may]} ${topics.replaceAll('{account}', name)}`).join('; ');
}

/** Letters and digits that are not taken for each other when a password is typed off a screen. */
const LETTERS = 'abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789';
const LONG = 20;

/** A password that nobody guesses. */
export function newPassword(): string {
  const letters: string[] = [];
  while (letters.length < LONG) {
    // Numbers beyond the last whole multiple would make some letters likelier.
    const [byte = 255] = crypto.getRandomValues(new Uint8Array(1));
    if (byte < Math.floor(256 / LETTERS.length) * LETTERS.length) letters.push(LETTERS[byte % LETTERS.length] as string);
  }
  return letters.join('');
}

/** What is typed into the form of one account, or of several new ones. */
export interface Typed {
  /** One on each line. */
  names: string;
  /** Empty: one that Havrel makes for a new account, the one it has for another. */
  password: string;
  /** A new one is made for an account that has one. */
  anew: boolean;
  enabled: boolean;
  note: string;
  rights: Right[];
}

export const BLANK: Typed = {
  names: '',
  password: '',
  anew: false,
  enabled: true,
  note: '',
  rights: [{ topics: 'site/{account}/#', may: 'publish' }],
};

export function typedOf({ name, enabled = true, note = '', rights }: Account): Typed {
  return { ...BLANK, names: name, enabled, note, rights: rights.map((right) => ({ ...right })) };
}

export const namesOf = (typed: Typed) =>
  typed.names
    .split('\n')
    .map((name) => name.trim())
    .filter((name) => name !== '');

/** An account with the password that it was given, for whoever sets up the device. */
export interface Given {
  name: string;
  password: string;
}

/** The accounts after what was typed is taken in, and the passwords that are to be told. */
export function saved(all: readonly Account[], before: Account | undefined, typed: Typed): { next: Account[]; given: Given[] } {
  const given: Given[] = [];
  const { enabled, note } = typed;
  const rights = typed.rights
    .filter(({ topics }) => topics.trim() !== '')
    .map(({ topics, may }) => ({ topics: topics.trim(), may }));
  const names = namesOf(typed);
  const make = (name: string, account: Pick<Account, 'id' | 'password'>): Account => {
    const wanted = typed.password || (!account.password || typed.anew ? newPassword() : '');
    if (wanted) given.push({ name, password: wanted });
    const password = wanted ? { secret: wanted } : account.password;
    return { id: account.id, name, ...(password && { password }), enabled, note, rights };
  };
  if (before) {
    const changed = make(names[0] ?? '', before);
    return { next: all.map((one) => (one.id === before.id ? changed : one)), given };
  }
  const added = (names.length > 0 ? names : ['']).map((name) => make(name, { id: newId() }));
  return { next: [...all, ...added], given };
}

/** A name that none of them has yet. */
export function freeName(all: readonly { name: string }[], wanted: string): string {
  const known = new Set(all.map(({ name }) => name));
  let name = wanted;
  for (let n = 2; known.has(name); n += 1) name = `${wanted}-${n}`;
  return name;
}

/** A cell of a CSV file (RFC 4180). */
const cell = (text: string) => (/[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text);

/** What devices are told, a line for each account. */
export function sheet(given: readonly Given[], view: View | undefined): string {
  const first = view?.addresses.find(({ websocket }) => !websocket);
  const rows = given.map(({ name, password }) => [first?.host ?? '', String(first?.port ?? ''), name, password]);
  return [['Host', 'Port', 'User', 'Password'], ...rows].map((row) => row.map(cell).join(',')).join('\r\n');
}

export const REFUSED: Record<View['refusals'][number]['why'], [words: string, cure: string]> = {
  login: ['Account or password not accepted', 'Check user name and password in the device, and that the account is switched on.'],
  publish: ['May not publish', 'Give the account a right to publish there, or correct the topic in the device.'],
  receive: ['Receives nothing', 'No right of the account covers what it subscribes to.'],
  too_large: ['Message too large', 'Allow larger messages in the settings, or find out what the device sends.'],
  full: [
    'Too many clients',
    'Allow more clients in the settings. If there are few, /etc/hosts.deny of this machine refuses the address.',
  ],
  same_client: ['Replaced by another client', 'Two devices use the same client id; each needs one of its own.'],
  queue: ['Messages dropped', 'The client does not keep up; more messages may wait for it after a change of the settings.'],
  protocol: ['Not MQTT', 'Another program tries this port, or a device uses the secured port in clear.'],
  secured: ['Not secured', 'The device must trust the certificate of the broker, and speak TLS 1.2 or later.'],
};
