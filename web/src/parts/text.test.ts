import { describe, expect, it } from 'vitest';
import { newId } from '../api/client';
import { counted, lasting, minute, minuteIn, moment, printed, stepWords } from './text';

describe('printed', () => {
  it.each([
    [12.345, 1, '12.3'],
    [-0.04, 1, '-0.0'],
    [true, 1, 'on'],
    ['KX-2611-0184', 0, 'KX-2611-0184'],
    [null, 2, '–'],
  ])('%s with %i digits reads %s', (value, decimals, text) => {
    expect(printed(value, decimals)).toBe(text);
  });
});

describe('lasting', () => {
  it.each([
    [400, '0 s'],
    [59_400, '59 s'],
    [60_000, '1 min'],
    [3_600_000 * 2 + 60_000 * 5, '2 h 05'],
    [86_400_000 * 3, '3 d'],
  ])('%i ms reads %s', (ms, text) => {
    expect(lasting(ms)).toBe(text);
  });
});

describe('moment', () => {
  it('leaves out the date of today only', () => {
    const now = new Date(2026, 10, 23, 15, 0, 0).getTime();
    expect(moment(now - 60_000, now)).toBe('14:59:00');
    expect(moment(now - 86_400_000, now)).toBe('2026-11-22 15:00:00');
  });
});

it('counts one and many', () => {
  expect([counted(1, 'tag'), counted(0, 'tag'), counted(2, 'entry', 'entries')]).toEqual(['1 tag', '0 tags', '2 entries']);
});

it('makes identities that sort by time', () => {
  const [a, b] = [newId(1_700_000_000_000), newId(1_800_000_000_000)];
  expect(a < b).toBe(true);
  expect(a).toMatch(/^[0-9a-f]{8}-[0-9a-f]{4}-7[0-9a-f]{3}-[89ab][0-9a-f]{3}-[0-9a-f]{12}$/);
});

it.each([
  [-3600, 'clock set back 1 h 00: these times came twice'],
  [90, 'clock set ahead 1 min'],
])('says what was done to the clock (%s s)', (seconds, words) => {
  expect(stepWords(seconds)).toBe(words);
});

it('a full minute is said without its seconds, an exact instant with them', () => {
  expect(minute('2026-12-01T06:00:00')).toBe('2026-12-01 06:00');
  expect(minute('2026-12-01T06:00:07')).toBe('2026-12-01 06:00:07');
});

it('the time of another clock says whose clock that is', () => {
  const here = minute('2026-07-01T06:00:00Z');
  expect(minuteIn('2026-07-01T06:00:00Z', Intl.DateTimeFormat().resolvedOptions().timeZone)).toBe(here);
  expect(minuteIn('2026-07-01T06:00:07Z', 'Pacific/Kiritimati')).toBe('2026-07-01 20:00:07 Kiritimati');
  expect(minuteIn('2026-07-01T06:00:00Z', 'Moon/Base')).toBe(here);
});
