import { expect, test } from 'vitest';
import type { LookupSet } from '../../../api/model';
import { EVERY_TAG } from '../../../parts/tag-choices';
import { asksForTags, between, fromAddress, type Look, lookOf, setOf, toAddress, USUAL } from './look';

const LOOK: Look = {
  ...USUAL,
  tags: ['a'],
  choices: [{ ...EVERY_TAG, unit: '°C' }],
  of: 'spans',
  count: '15',
  figures: ['average', 'states'],
  condition: 'at("EX-1/Level") > 2.0',
  newest: true,
};

test('an address says what is not as usual, and is read whatever it says', () => {
  expect(toAddress(USUAL)).toBeUndefined();
  expect(toAddress({ ...USUAL, newest: true })).toEqual({ newest: true });
  expect(fromAddress(toAddress(LOOK))).toEqual(LOOK);
  const odd = { tags: 5, figures: ['x'], choices: [null], newest: 'yes', colour: 'red' };
  expect(fromAddress(odd)).toEqual({ ...USUAL, figures: [] });
  expect(fromAddress(undefined)).toEqual(USUAL);
});

test('what the server takes is what was typed', () => {
  const set = setOf(LOOK, { last_s: 3600 });
  expect(set.rows).toEqual({ of: 'spans', every: { count: 15, unit: 'minute' }, figures: ['average', 'states'] });
  expect(set.condition).toEqual({ text: LOOK.condition, mixed: 'convert' });
  expect(lookOf(set)).toEqual({ look: LOOK, period: { span: 3600 } });
  // What a form does not show is not sent.
  expect(setOf({ ...LOOK, quality: 'good', qualities: true }, {}).quality).toBe('any');
  expect(setOf({ ...USUAL, choices: [EVERY_TAG] }, {}).choices).toEqual([]);
  expect(asksForTags({ ...USUAL, choices: [EVERY_TAG] })).toBe(false);
});

test('a kept period stands still or moves with the clock', () => {
  const period = { from: '2026-11-30T06:00:00Z', to: '2026-11-30T07:00:00Z' };
  const kept = lookOf({ ...setOf(LOOK, period) } as LookupSet);
  expect(kept.period).toEqual({ span: 3600, end: Date.parse(period.to) });
  expect(between(kept.period, 0)).toEqual({ from: '2026-11-30T06:00:00.000Z', to: '2026-11-30T07:00:00.000Z' });
  expect(between({ span: 60 }, 60_000).to).toBe('1970-01-01T00:01:00.000Z');
});
