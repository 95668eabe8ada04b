// Looking back: the whole page shows how things stood at an instant, and nothing can be operated.

import { useSyncExternalStore } from 'react';
import { http, type Schemas, take } from './client';
import { feed } from './live';
import { queries } from './queries';

/** The header by which the server is asked how things stood. */
const HEADER = 'Havrel-Instant';
/** What is read anew at another instant while the configuration stays. */
const MOVING = ['alarms', 'board', 'sparks', 'pixels', 'sheet'];
/** What is the same at every instant. */
const LASTING = ['session', 'kinds', 'units', 'columns'];

/** What is shown of an instant, or why it cannot be shown. */
export interface Past {
  instant: number;
  told?: Schemas['InstantView'];
  trouble?: string;
}

let past: Past | undefined;
/** The revision whose configuration is shown. */
let revision: number | undefined;
const listeners = new Set<() => void>();

http.use({
  onRequest({ request }) {
    if (past) request.headers.set(HEADER, new Date(past.instant).toISOString());
    return request;
  },
});

function set(next: Past | undefined) {
  past = next;
  for (const listener of listeners) listener();
}

/** Goes to an instant, in milliseconds; without one back to now. */
export async function lookBackTo(instant: number | undefined): Promise<void> {
  if (instant === past?.instant) return;
  const begins = past === undefined;
  set(instant === undefined ? undefined : { ...past, instant });
  feed.show(instant);
  const again = (all: boolean) =>
    queries.invalidateQueries({
      predicate: ({ queryKey: [part] }) => (all ? !LASTING.includes(String(part)) : MOVING.includes(String(part))),
    });
  if (instant === undefined) {
    revision = undefined;
    await again(true);
    return;
  }
  try {
    const told = await take(http.GET('/api/instant'));
    if (past?.instant !== instant) return;
    set({ instant, told });
    const same = !begins && told.revision === revision;
    revision = told.revision;
    await again(!same);
  } catch (error) {
    if (past?.instant === instant) set({ instant, trouble: error instanceof Error ? error.message : String(error) });
  }
}

/** What the page shows of an instant; nothing while it shows now. */
export function usePastShown(): Past | undefined {
  return useSyncExternalStore(follow, () => past);
}

function follow(listener: () => void) {
  listeners.add(listener);
  return () => void listeners.delete(listener);
}
