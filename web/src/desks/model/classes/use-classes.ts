// What the server says of equipment classes.

import { useQueries, useQuery } from '@tanstack/react-query';
import { http, take } from '../../../api/client';
import type { ClassSet } from '../../../api/model';
import { type PartRow, partNames } from './rows';

/** The classes in short; read anew when the plant's revision moves. */
export function useClasses() {
  return useQuery({ queryKey: ['classes'], queryFn: () => take(http.GET('/api/classes')) });
}

const asked = (id: string) => ({
  queryKey: ['classes', id],
  queryFn: () => take(http.GET('/api/classes/{id}', { params: { path: { id } } })),
});

export function useClass(id: string | undefined) {
  return useQuery({ ...asked(id ?? ''), enabled: id !== undefined });
}

/** What formulas can name of the parts of a class: “Zone 1/Temperature”. */
export function usePartNames(parts: readonly PartRow[]): string[] {
  const ids = [...new Set(parts.map((part) => part.class).filter(Boolean))];
  const found = useQueries({ queries: ids.map(asked) });
  const sets = new Map(ids.map((id, index) => [id, found[index]?.data?.set as unknown as ClassSet | undefined]));
  return parts.flatMap((part) => partNames(part, sets.get(part.class)));
}
