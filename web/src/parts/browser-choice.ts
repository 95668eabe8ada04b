// A choice that is kept in this browser, and that its other windows follow.

import { useSyncExternalStore } from 'react';

export interface BrowserChoice<T extends string> {
  /** What was chosen; what is kept and means nothing counts as no choice. */
  get: () => T;
  set: (next: T) => void;
  /** Applies the choice anew: something else that it depends on has changed. */
  apply: () => void;
  /** Applies the choice, and follows other windows. */
  start: () => void;
  /** Tells whenever the choice is applied; gives the function that ends it. */
  follow: (listener: () => void) => () => void;
  useValue: () => T;
}

/** `unless`: what counts without a choice; it is not stored. `applied` does what the choice means. */
export function browserChoice<T extends string>(
  key: string,
  all: readonly T[],
  unless: T,
  applied: (value: T) => void,
): BrowserChoice<T> {
  const listeners = new Set<() => void>();
  const get = () => all.find((one) => one === localStorage.getItem(key)) ?? unless;
  const apply = () => {
    applied(get());
    for (const listener of listeners) listener();
  };
  const follow = (listener: () => void) => {
    listeners.add(listener);
    return () => void listeners.delete(listener);
  };
  return {
    get,
    apply,
    follow,
    set: (next) => {
      if (next === unless) localStorage.removeItem(key);
      else localStorage.setItem(key, next);
      apply();
    },
    start: () => {
      apply();
      window.addEventListener('storage', apply);
    },
    useValue: () => useSyncExternalStore(follow, get),
  };
}
