import { expect, it } from 'vitest';
import { cell, rows } from './export';
import { exactly } from './figures';

it.each([
  ['plain', 'plain'],
  ['with, comma', '"with, comma"'],
  ['a "quoted" word', '"a ""quoted"" word"'],
  ['=1+1', "'=1+1"],
  [-4.5, '-4.5'],
  [null, ''],
  [false, 'false'],
])('a cell is safe and whole (%s)', (value, text) => {
  expect(cell(value)).toBe(text);
});

it.each([
  [4_250, '4.3 s'],
  [301_000, '5 min 1 s'],
  [7_384_000, '2 h 3 min 4 s'],
])('a difference of times is exact (%s)', (ms, words) => {
  expect(exactly(ms)).toBe(words);
});

it('a row keeps its nanoseconds', () => {
  const columns = { offset: [123_456_789, 1_000_000_000], value: [82.5, null], reason: ['good', 'no answer'] };
  expect(rows('EX-1/Temperature', '°C', '2026-11-23T10:00:00Z', columns)).toEqual([
    '2026-11-23T10:00:00.123456789Z,EX-1/Temperature,82.5,°C,good',
    '2026-11-23T10:00:01.000000000Z,EX-1/Temperature,,°C,no answer',
  ]);
});
