// Day and night: which is on, and the colours that a canvas must know by value.

import { useSyncExternalStore } from 'react';

export type Theme = 'day' | 'night';
export type Wish = Theme | 'system';

const KEY = 'havrel.theme';
const listeners = new Set<() => void>();
const dark = typeof matchMedia === 'function' ? matchMedia('(prefers-color-scheme: dark)') : null;

/** What the person chose; without a choice the system's. */
export function wish(): Wish {
  const kept = localStorage.getItem(KEY);
  return kept === 'day' || kept === 'night' ? kept : 'system';
}

/** Paper is white, whatever the screen is. */
let printing = false;

export function theme(): Theme {
  if (printing) return 'day';
  const wanted = wish();
  if (wanted !== 'system') return wanted;
  return dark?.matches ? 'night' : 'day';
}

function apply() {
  document.documentElement.dataset.theme = theme();
  for (const listener of listeners) listener();
}

export function choose(next: Wish) {
  if (next === 'system') localStorage.removeItem(KEY);
  else localStorage.setItem(KEY, next);
  apply();
}

/** Puts the theme on, and follows the system and other windows. */
export function startTheme() {
  apply();
  dark?.addEventListener('change', apply);
  window.addEventListener('storage', apply);
  // Canvases hold their colours and must be drawn anew.
  const print = (on: boolean) => () => {
    printing = on;
    apply();
  };
  window.addEventListener('beforeprint', print(true));
  window.addEventListener('afterprint', print(false));
}

function follow(listener: () => void) {
  listeners.add(listener);
  return () => void listeners.delete(listener);
}

export function useTheme(): Theme {
  return useSyncExternalStore(follow, theme);
}

export function useWish(): Wish {
  return useSyncExternalStore(follow, wish);
}
