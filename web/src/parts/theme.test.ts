// @vitest-environment jsdom
import { afterEach, beforeEach, expect, it, vi } from 'vitest';
import { choose, startTheme, theme, wish } from './theme';

const on = () => document.documentElement.dataset.theme;

beforeEach(() => {
  localStorage.clear();
  startTheme();
});
afterEach(() => vi.restoreAllMocks());

it('keeps what was chosen, and follows the system without a choice', () => {
  choose('night');
  expect([on(), wish(), localStorage.getItem('havrel.theme')]).toEqual(['night', 'night', 'night']);
  choose('system');
  // There is none in this window.
  expect([on(), wish(), localStorage.getItem('havrel.theme')]).toEqual(['day', 'system', null]);
});

it('is that of the day on paper, and comes back', () => {
  choose('night');
  window.dispatchEvent(new Event('beforeprint'));
  expect([on(), theme()]).toEqual(['day', 'day']);
  window.dispatchEvent(new Event('afterprint'));
  expect([on(), theme()]).toEqual(['night', 'night']);
});

it('follows what another window chose', () => {
  localStorage.setItem('havrel.theme', 'night');
  window.dispatchEvent(new StorageEvent('storage', { key: 'havrel.theme' }));
  expect(on()).toBe('night');
});

it('takes what is kept and means nothing for no choice', () => {
  localStorage.setItem('havrel.theme', 'sepia');
  expect(wish()).toBe('system');
});
