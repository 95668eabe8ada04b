// The kinds of connections, as the server describes them.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from '../api/client';
import type { ConnectionSet } from '../api/model';

export type KindView = Schemas['KindView'];

const NONE: readonly KindView[] = [];

/** Every kind, in the order in which they are offered; nothing before the server has answered. */
export function useKinds(): readonly KindView[] {
  const kinds = useQuery({
    queryKey: ['kinds'],
    queryFn: () => take(http.GET('/api/kinds')),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return kinds.data ?? NONE;
}

/** The kind of a connection; undefined for one that the server does not know. */
export function useKind(name: string | undefined): KindView | undefined {
  return useKinds().find((kind) => kind.kind === name);
}

/** Whether values may be written to tags of a connection. */
export function useWriting(connection: ConnectionSet | undefined): boolean {
  const kind = useKind(connection?.kind);
  return connection?.writing || kind?.can.set_here || false;
}
