// What the server says of equipment classes.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../../../api/client';

/** The classes in short; read anew when the plant's revision moves. */
export function useClasses() {
  return useQuery({ queryKey: ['classes'], queryFn: () => take(http.GET('/api/classes')) });
}

export function useClass(id: string | undefined) {
  return useQuery({
    queryKey: ['classes', id],
    enabled: id !== undefined,
    queryFn: () => take(http.GET('/api/classes/{id}', { params: { path: { id: id ?? '' } } })),
  });
}
