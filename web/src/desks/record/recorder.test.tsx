import { expect, test } from 'vitest';
import type { RecorderSet } from '../../api/model';
import { EVERY_TAG } from '../../parts/tag-choices';
import { bytesWords } from '../../parts/text';
import { choiceWords, daysWords, everyWords, manyWords, setOf, spanOf, valuesOf, whenWords } from './recorder';

const set: RecorderSet = {
  name: 'Figures',
  note: '',
  running: true,
  tags: ['t'],
  choices: [{ ...EVERY_TAG, unit: '°C' }],
  when: { on: 'interval', every_ms: 90_000, offset_ms: 500, keep: ['value', 'maximum'] },
  trigger: null,
  keep_days: 90,
  order: 2,
};

test.each<[RecorderSet['when'], string]>([
  [set.when, 'every 90 s + 500 ms: value, maximum'],
  [{ on: 'interval', every_ms: 3_600_000, offset_ms: 0, keep: ['average'] }, 'every hour: average'],
  [{ on: 'change', deadband: 0, percent: false }, 'when a value changes'],
  [{ on: 'change', deadband: 2, percent: true }, 'when a value changes by more than 2 % of its range'],
  [{ on: 'event', edge: 'fall' }, 'when EX-1 / Level > 3 becomes false'],
  [{ on: 'hand' }, 'when somebody says so'],
])('a recorder is stored as it was typed, and says when it records', (when, words) => {
  const one = {
    ...set,
    when,
    trigger: when.on === 'event' ? ({ text: 'at("Works/EX-1/Level") > 3', mixed: 'convert' } as const) : null,
  };
  const { order, ...stored } = one;
  expect(order).toBe(2);
  expect(setOf(valuesOf(one, one.trigger?.text ?? '', undefined))).toEqual(stored);
  expect(whenWords(one, one.trigger?.text ?? '')).toBe(words);
});

test('a new recorder begins with the chosen place, and an empty number of days keeps for ever', () => {
  const values = valuesOf(undefined, '', 'p');
  expect(values.choices).toEqual([{ ...EVERY_TAG, place: 'p' }]);
  expect(setOf(values).keep_days).toBeNull();
  expect(valuesOf(undefined, '', undefined).choices).toEqual([]);
});

test.each([
  [100, '100', 'ms'],
  [1000, '1', 's'],
  [90_000, '90', 's'],
  [1500, '1500', 'ms'],
  [600_000, '10', 'min'],
  [3_600_000, '1', 'h'],
])('%d ms are %s %s', (ms, count, unit) => {
  expect(spanOf(ms)).toEqual({ count, unit });
});

test('spans, amounts and times in words', () => {
  expect([everyWords(1000), everyWords(60_000), everyWords(250)]).toEqual(['every second', 'every minute', 'every 250 ms']);
  expect([950, 12_345, 1_234_567, 2e9].map(manyWords)).toEqual(['950', '12,000', '1.2 million', '2.0 billion']);
  expect([950, 1500, 1.5e8, 2e12].map(bytesWords)).toEqual(['950 B', '1.5 kB', '150 MB', '2.0 TB']);
  expect([0.5, 20, 400, 2000, 1e6].map(daysWords)).toEqual(['12 h', '20 days', '13 months', '5 years', 'more than 100 years']);
});

test('a choice in words', () => {
  const choice = { ...EVERY_TAG, place: 'p', class: 'c', unit: '°C', words: 'jacket' };
  expect(choiceWords(choice, { place: 'Extraction', class: 'Vessel' })).toBe(
    'tags with “jacket” in the path in °C of class Vessel under Extraction',
  );
  expect(choiceWords(EVERY_TAG, {})).toBe('no tags yet');
});
