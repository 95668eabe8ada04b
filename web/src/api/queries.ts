// What the desks ask of the server, and how they change the configuration.

import { keepPreviousData, QueryClient, useQueries, useQuery } from '@tanstack/react-query';
import { type AlarmState, isSuppressed } from './alarm-state';
import { http, Refused, type Schemas, take } from './client';
import type { Item, Kind, Sets } from './model';
import { usePast } from './shown';

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 60_000,
      refetchOnWindowFocus: false,
      retry: (count, error) => !(error instanceof Refused && error.status >= 400 && error.status < 500) && count < 5,
    },
  },
});

export interface ItemFilter {
  only?: string | undefined;
  under?: string | undefined;
  connection?: string | undefined;
  tag?: string | undefined;
  text?: string | undefined;
}

interface Items<K extends Kind> {
  revision: number;
  total: number;
  items: Item<K>[];
}

async function fetchItems<K extends Kind>(kind: K, filter: ItemFilter): Promise<Items<K>> {
  return (await take(http.GET('/api/items/{kind}', { params: { path: { kind }, query: filter } }))) as unknown as Items<K>;
}

/** Items of a kind; read anew when the plant's revision moves. */
export function useItems<K extends Kind>(kind: K, filter: ItemFilter = {}, enabled = true) {
  const key = ['items', kind, filter];
  return useQuery({ queryKey: key, queryFn: () => fetchItems(kind, filter), enabled, placeholderData: keepPreviousData });
}

/** Items as they are now: for what is decided from them, where an older list would decide wrongly. */
export function itemsNow<K extends Kind>(kind: K, filter: ItemFilter = {}): Promise<Items<K>> {
  return queries.fetchQuery({ queryKey: ['items', kind, filter], queryFn: () => fetchItems(kind, filter), staleTime: 0 });
}

let read: { revision: number; done: Promise<void> } | undefined;

/** The configuration has this revision now: what was read of it is out of date. Told of one revision by its maker and by the
 * feed, everything is read anew once. */
export function configurationMoved(revision: number): Promise<void> {
  if (read?.revision !== revision) {
    const parts = ['items', 'classes', 'board', 'tree', 'sheet', 'revisions', 'uses', 'alarms'];
    const done = queries.invalidateQueries({ predicate: (q) => parts.includes(String(q.queryKey[0])) });
    read = { revision, done };
  }
  return read.done;
}

/** Single tags by their ids, in that order; those that do not exist are left out. */
export function useTags(ids: readonly string[]): Item<'tag'>[] {
  return useQueries({
    queries: ids.map((id) => ({ queryKey: ['items', 'tag', { only: id }], queryFn: () => fetchItems('tag', { only: id }) })),
    combine: joinTags,
  });
}

/** Stands outside the hook, so that the same answers give the same list. */
function joinTags(results: { data: Items<'tag'> | undefined }[]): Item<'tag'>[] {
  return results.flatMap((r) => r.data?.items ?? []);
}

/** For several kinds, an edit of any one of them. */
export type Edit<K extends Kind = Kind> = K extends Kind
  ?
      | { op: 'create'; kind: K; id: string; set: Partial<Sets[K]> }
      | { op: 'patch'; kind: K; id: string; set: { [F in keyof Sets[K]]?: Sets[K][F] | null } }
      | { op: 'delete'; kind: K; id: string; contents?: boolean }
  : never;

/** Revisions made by this page: nobody needs to be told of them. */
const own = new Set<number>();

/** Notes a revision that this page made, and reads anew what it concerns. */
export function made(revision: number): Promise<void> {
  own.add(revision);
  return configurationMoved(revision);
}

export function madeHere(revision: number): boolean {
  return own.has(revision);
}

/** The newest revision that differs from this one by what this page made alone: what a person does twice in a row, before the
 * page has read what the first came to, is no conflict with somebody else. */
function withOwn(seen: number): number {
  let newest = seen;
  while (own.has(newest + 1)) newest++;
  return newest;
}

let before: Promise<unknown> = Promise.resolve();

/** Puts edits through the one door, one after the other; `seen` is the revision the person worked from. */
export async function commit(why: string, seen: number, edits: Edit[]): Promise<number> {
  const body = { why, edits: edits as unknown as Schemas['EditBody'][] };
  const sent = before.then(async () => {
    const params = { header: { 'If-Match': String(withOwn(seen)) } };
    const done = await take(http.POST('/api/edits', { params, body }));
    own.add(done.revision);
    return done.revision;
  });
  before = sent.catch(() => undefined);
  const revision = await sent;
  await made(revision);
  return revision;
}

/** What edits come to, before they are made. */
export function differenceOf(seen: number, edits: Edit[]): Promise<Schemas['EffectView']> {
  const body = { why: 'difference', edits: edits as unknown as Schemas['EditBody'][] };
  return take(http.POST('/api/edits/difference', { params: { header: { 'If-Match': String(seen) } }, body }));
}

export type Alarm = Omit<Schemas['AlarmView'], 'state'> & { state: AlarmState };

interface Alarms {
  alarms: Alarm[];
}

const ALARMS = {
  queryKey: ['alarms', 'standing'],
  queryFn: async () => (await take(http.GET('/api/alarms'))) as Alarms,
  staleTime: 0,
};
const told = (list: Alarms): Alarms => ({ alarms: list.alarms.filter((a) => !isSuppressed(a.state)) });
const suppressed = (list: Alarms): Alarms => ({ alarms: list.alarms.filter((a) => isSuppressed(a.state)) });

/** The alarms that an operator is told of, newest first. */
export function useAlarms() {
  return useQuery({ ...ALARMS, select: told });
}

/** The rules whose alarms are kept from the operator: shelved, suppressed by design, out of service. */
export function useSuppressed() {
  return useQuery({ ...ALARMS, select: suppressed });
}

/** Every value that is set by hand; read anew when the feed says that the list has changed. */
export function useHands() {
  return useQuery({ queryKey: ['hands'], queryFn: () => take(http.GET('/api/by-hand')), staleTime: Number.POSITIVE_INFINITY });
}

/** Does something about alarms; gives for how many it changed something. */
export async function actOnAlarms(body: Schemas['AlarmActBody']): Promise<number> {
  const done = await take(http.POST('/api/alarms/act', { body }));
  await queries.invalidateQueries({ queryKey: ['alarms'] });
  return done.count;
}

export function useSession() {
  return useQuery({ queryKey: ['session'], queryFn: () => take(http.GET('/api/session')), staleTime: Number.POSITIVE_INFINITY });
}

const RANKS = ['viewer', 'operator', 'engineer'];

/** Whether the person signed in has at least this role, now: of what is over nothing can be changed. The server decides; this only
 * spares useless buttons. */
export function useMay(role: 'operator' | 'engineer'): boolean {
  const session = useSession();
  const isPast = usePast();
  return !isPast && RANKS.indexOf(session.data?.role ?? '') >= RANKS.indexOf(role);
}
