// Whether the page shows now, or an instant that is over.

import { useSyncExternalStore } from 'react';

let past = false;
const listeners = new Set<() => void>();

export function showPast(is: boolean) {
  past = is;
  for (const listener of listeners) listener();
}

function follow(listener: () => void) {
  listeners.add(listener);
  return () => void listeners.delete(listener);
}

/** Whether the page shows an instant that is over. */
export const usePast = () => useSyncExternalStore(follow, () => past);
