import { describe, expect, it } from 'vitest';
import { fieldOf, parseInstant, parsePeriod } from './period';

// Friday.
const NOW = new Date(2026, 10, 27, 9, 30).getTime();
const at = (day: number, hour = 0, minute = 0, month = 11) => new Date(2026, month - 1, day, hour, minute).getTime();

function parsed(text: string) {
  const period = parsePeriod(text, NOW);
  if (typeof period === 'string') return period;
  return period.end === undefined ? period.span : [period.end - period.span * 1000, period.end];
}

describe('a period as it is typed', () => {
  it.each([
    ['last 90 min', 5400],
    ['90min', 5400],
    ['1,5 h', 5400],
    ['Last 2 Days', 172_800],
  ])('%s ends now', (text, seconds) => {
    expect(parsed(text)).toBe(seconds);
  });
  it.each([
    ['yesterday', at(26), at(27)],
    ['today', at(27), NOW],
    ['this week', at(23), NOW],
    ['last week', at(16), at(23)],
    ['last month', at(1, 0, 0, 10), at(1)],
    ['2026-11-20', at(20), at(21)],
    ['2026-11-20 06:00 to 14:00', at(20, 6), at(20, 14)],
    ['from 2026-11-20T06:00 until 2026-11-21 06:00', at(20, 6), at(21, 6)],
    ['yesterday 22:00 – now', at(26, 22), NOW],
    ['yesterday 22:00 to 06:00', at(26, 22), at(27, 6)],
    ['22:00 to 2026-11-20 06:00', at(19, 22), at(20, 6)],
    ['22:00 to yesterday 23:00', at(26, 22), at(26, 23)],
    ['06:00 to 09:00', at(27, 6), at(27, 9)],
    ['22:00 to 06:00', at(26, 22), at(27, 6)],
    ['14:00 - 22:00', at(26, 14), at(26, 22)],
    ['2026-11-20 00:00 to 24:00', at(20), at(21)],
  ])('%s', (text, from, to) => {
    expect(parsed(text)).toEqual([from, to]);
  });
  it.each([
    ['', /Write it like/],
    ['soon', /Write it like/],
    ['06:00', /Write it like/],
    ['2026-02-30', /Write it like/],
    ['2026-11-20 25:00 to 26:00', /Write it like/],
    ['06:00 to 07:00 to 08:00', /Write it like/],
    ['90 parsecs', /Write it like/],
    ['2026-11-20 14:00 to 2026-11-20 06:00', /end must lie after/],
    ['0 s', /shortest/],
    ['9999 weeks', /longest/],
  ])('%s is refused with words', (text, words) => {
    expect(parsePeriod(text, NOW)).toMatch(words);
  });
  it('is written for the browser’s own field', () => {
    expect(fieldOf(at(5, 7, 3))).toBe('2026-11-05T07:03:00');
  });
});

describe('an instant', () => {
  const now = new Date(2026, 10, 30, 10, 0, 0).getTime();
  const at = (day: number, hour: number, minute = 0, second = 0) => new Date(2026, 10, day, hour, minute, second).getTime();
  it.each([
    ['03:12', at(30, 3, 12)],
    ['22:00', at(29, 22)],
    ['yesterday 06:30:15', at(29, 6, 30, 15)],
    ['2026-11-27 06:00', at(27, 6)],
    ['90 min', at(30, 8, 30)],
    ['1 h ago', at(30, 9)],
  ])('%s', (typed, wanted) => expect(parseInstant(typed, now)).toBe(wanted));
  it.each(['', '2026-11-27', 'soon', '25:00', '2026-12-01 06:00'])('%s is none', (typed) =>
    expect(typeof parseInstant(typed, now)).toBe('string'),
  );
});
