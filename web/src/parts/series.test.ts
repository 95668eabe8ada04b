import { expect, it } from 'vitest';
import { countedOn, fromClipboard, series, toClipboard } from './series';

it.each([
  ['Zone 1', undefined, true, ['Zone 1', 'Zone 2', 'Zone 3']],
  ['Zone 1', undefined, false, ['Zone 1', 'Zone 1', 'Zone 1']],
  ['40001', '40041', true, ['40001', '40041', '40081']],
  ['T09', 'T08', true, ['T09', 'T08', 'T07']],
  ['EX-1 level', 'something else 7', true, ['EX-1 level', 'EX-2 level', 'EX-3 level']],
  ['no number', undefined, true, ['no number', 'no number', 'no number']],
])('%s and %s go on', (first, second, counting, wanted) => {
  expect(series(first, second, 3, counting)).toEqual(wanted);
});

it('keeps leading zeros', () => {
  expect([countedOn('PU-099', 1), countedOn('1 of 7', 1), countedOn('Level', 5)]).toEqual(['PU-100', '1 of 8', 'Level']);
});

it.each([
  [
    'a\tb\r\nc\td\r\n',
    [
      ['a', 'b'],
      ['c', 'd'],
    ],
  ],
  ['one', [['one']]],
  ['"two\nlines"\tx', [['two\nlines', 'x']]],
  ['"say ""no"""\ty', [['say "no"', 'y']]],
  ['5" pipe\tz', [['5" pipe', 'z']]],
  [
    'a\t\n\tb',
    [
      ['a', ''],
      ['', 'b'],
    ],
  ],
])('reads %j', (text, wanted) => {
  expect(fromClipboard(text)).toEqual(wanted);
});

it('reads back what it wrote', () => {
  const rows = [
    ['a "b"', 'c\td'],
    ['', 'two\nlines'],
  ];
  expect(fromClipboard(toClipboard(rows))).toEqual(rows);
});
