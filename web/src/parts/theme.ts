// Day and night: which is on, and the colours that a canvas must know by value.

import { useSyncExternalStore } from 'react';
import { browserChoice } from './browser-choice';

export type Theme = 'day' | 'night';
export type Wish = Theme | 'system';

const dark = typeof matchMedia === 'function' ? matchMedia('(prefers-color-scheme: dark)') : null;

/** Paper is white, whatever the screen is. */
let printing = false;

const wished = browserChoice<Wish>('havrel.theme', ['day', 'night'], 'system', () => {
  document.documentElement.dataset.theme = theme();
});

/** What the person chose; without a choice the system's. */
export const wish = wished.get;
export const choose = wished.set;

export function theme(): Theme {
  if (printing) return 'day';
  const wanted = wish();
  if (wanted !== 'system') return wanted;
  return dark?.matches ? 'night' : 'day';
}

/** Puts the theme on, and follows the system and other windows. */
export function startTheme() {
  wished.start();
  dark?.addEventListener('change', wished.apply);
  // Canvases hold their colours and must be drawn anew.
  const print = (on: boolean) => () => {
    printing = on;
    wished.apply();
  };
  window.addEventListener('beforeprint', print(true));
  window.addEventListener('afterprint', print(false));
}

export function useTheme(): Theme {
  return useSyncExternalStore(wished.follow, theme);
}

export const useWish = wished.useValue;
