import { describe, expect, test } from 'vitest';
import { coversWords, cronOf, deliveryWords, leftOut, presetOf, presetWords, setOf, valuesOf, whenWords } from './dispatch';

describe('times that come again', () => {
  test.each([
    ['0 * * * *', 'Every full hour'],
    ['15 * * * *', 'Every hour at minute 15'],
    ['0 6 * * *', 'Every day at 06:00'],
    ['30 22 * * 1,5', 'Every Monday, Friday at 22:30'],
    ['5 0 1 * *', 'On day 1 of every month at 00:05'],
  ])('%s is chosen as “%s”', (cron, words) => {
    const preset = presetOf(cron);
    expect(presetWords(preset)).toBe(words);
    expect(cronOf(preset)).toBe(cron);
  });
  test.each(['*/5 * * * *', '0 6 * * MON', '0 6 L * *', '0 6 1 * 1', '0 6 * 3 *', '99 6 * * *', '0 6 * *', ''])(
    '%s stays a line of cron',
    (cron) => {
      expect(presetOf(cron)).toEqual({ every: 'cron' });
    },
  );
  test('an incomplete choice gives no line of cron', () => {
    expect(cronOf({ every: 'week', time: '06:00', days: [] })).toBeUndefined();
    expect(cronOf({ every: 'day', time: '' })).toBeUndefined();
  });
});

test('a dispatch is stored as it was typed', () => {
  const fresh = valuesOf(undefined, '', 'r1');
  expect(setOf({ ...fresh, name: ' Morning ' })).toMatchObject({
    name: 'Morning',
    when: { on: 'schedule', cron: '0 6 * * *', missed: 'all' },
    trigger: null,
    shifts: null,
  });
  const event = setOf({ ...fresh, on: 'event', trigger: 'at("A/B") > 3', shifts: 's1' });
  expect(event).toMatchObject({ when: { on: 'event', edge: 'rise' }, trigger: { text: 'at("A/B") > 3' }, shifts: null });
  const typed = { connection: 'c', to: ' a@b, c@d ', file: 'x', formats: [] };
  expect(setOf({ ...fresh, deliveries: [typed] }).deliveries[0]?.to).toEqual(['a@b', 'c@d']);
  expect(setOf({ ...fresh, covers: 'shift', shifts: 's1' }).shifts).toBe('s1');
});

test('it reads as a sentence', () => {
  const v = { ...valuesOf(undefined, '', 'r1'), cron: '0 6 * * MON' };
  expect(whenWords(v, 'At 06:00, on Monday.', '')).toBe('At 06:00, on Monday');
  expect(whenWords({ ...v, on: 'event', trigger: 'at("Works/EX-1/Phase") == 4' }, '', '')).toBe(
    'When EX-1 / Phase == 4 becomes true',
  );
  expect(whenWords({ ...v, on: 'shift' }, '', 'Two shifts')).toBe('When a shift of “Two shifts” ends');
  expect(coversWords('day', undefined)).toBe('the day before');
  const delivery = { connection: 'c', to: '', file: '', formats: ['csv' as const, 'pdf' as const] };
  expect(deliveryWords(delivery, 'Share')).toBe('“Share” as PDF and CSV');
  expect(deliveryWords({ ...delivery, to: 'a@b, c@d;e@f', formats: [] }, '')).toBe('a@b and 2 more as nothing yet');
});

test('what a format cannot carry is said', () => {
  const sections = [
    { kind: 'text' as const, text: '' },
    { kind: 'trend' as const, tags: [] },
  ];
  expect(leftOut('csv', sections)).toBe('CSV leaves out its texts and trends.');
  expect(leftOut('xlsx', sections)).toBe('XLSX leaves out its trends.');
  expect(leftOut('pdf', sections)).toBeUndefined();
});
