import { expect, it } from 'vitest';
import { heard, keyOf, TONES } from './sound';

const alarm = (rule: string, priority: number, raised_at = '2026-11-27T12:00:00Z') => ({ rule, priority, raised_at });

it('hears the highest priority that nobody has silenced', () => {
  const all = [alarm('a', 2), alarm('b', 4), alarm('c', 1)];
  expect(heard(all, new Set())).toBe(4);
  expect(heard(all, new Set([keyOf(alarm('b', 4))]))).toBe(2);
  expect(heard([alarm('c', 1)], new Set())).toBe(0);
});

it('hears a silenced alarm when it comes again', () => {
  const silenced = new Set([keyOf(alarm('b', 4))]);
  expect(heard([alarm('b', 4, '2026-11-27T12:05:00Z')], silenced)).toBe(4);
});

it('sounds more and sooner for what is more urgent', () => {
  const [now, soon, shift] = [TONES[4], TONES[3], TONES[2]];
  expect(now?.notes.length).toBeGreaterThan(soon?.notes.length ?? 9);
  expect(soon?.notes.length).toBeGreaterThan(shift?.notes.length ?? 9);
  expect(now?.every).toBeLessThan(soon?.every ?? 0);
  expect(shift?.every).toBeUndefined();
});
