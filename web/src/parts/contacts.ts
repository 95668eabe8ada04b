// Everybody who can be told of alarms.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from '../api/client';
import { queries } from '../api/queries';

export type Contact = Schemas['ContactView'];

export function useContacts(): readonly Contact[] {
  const asked = useQuery({ queryKey: ['contacts'], queryFn: () => take(http.GET('/api/contacts')), staleTime: 30_000 });
  return asked.data ?? NOBODY;
}

const NOBODY: readonly Contact[] = [];

/** Sets where somebody is told, and when. */
export async function setContact(account: string, body: Schemas['ContactBody']): Promise<void> {
  await take(http.PATCH('/api/contacts/{account}', { params: { path: { account } }, body }));
  await queries.invalidateQueries({ queryKey: ['contacts'] });
}
