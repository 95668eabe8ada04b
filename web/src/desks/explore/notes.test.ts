// @vitest-environment jsdom
import { expect, it } from 'vitest';
import { moment } from '../../parts/text';
import { readMoment } from './notes';

const NOW = new Date(2026, 10, 23, 9, 30, 0).getTime();

it.each([
  ['2026-11-22 14:05:30', new Date(2026, 10, 22, 14, 5, 30)],
  ['2026-1-2 4:05', new Date(2026, 0, 2, 4, 5, 0)],
  ['2026-11-22T14:05', new Date(2026, 10, 22, 14, 5, 0)],
  [' 14:05 ', new Date(2026, 10, 23, 14, 5, 0)],
])('%s is read as it stands', (text, wanted) => {
  expect(readMoment(text, NOW)).toBe(wanted.getTime());
});

it.each(['', 'yesterday', '14', '25:00', '14:61', '2026-02-30 10:00', '2026-13-01 10:00', '14:05:30:10'])(
  '%s is no time',
  (text) => {
    expect(readMoment(text, NOW)).toBeNull();
  },
);

it('what is printed is read back', () => {
  const at = new Date(2026, 5, 7, 8, 9, 10).getTime();
  expect(readMoment(moment(at, NOW), NOW)).toBe(at);
});
