import { expect, it } from 'vitest';
import { cellCount, insisted, NOTHING, replaced, staged, without } from './staged';

const row = { id: 'a', fresh: false, label: 'EX-1/Level' };

it('remembers what a cell showed at first, and forgets a cell that is back there', () => {
  const one = staged(NOTHING, [{ row, key: 'unit', text: 'm', was: '%' }]);
  const two = staged(one, [{ row, key: 'unit', text: 'mm', was: 'ignored' }]);
  expect(two.get('a')?.cells.unit).toEqual({ text: 'mm', was: '%' });
  expect(staged(two, [{ row, key: 'unit', text: '%', was: '%' }]).size).toBe(0);
  expect([one.get('a')?.cells.unit?.text, cellCount(two)]).toEqual(['m', 1]);
});

it('keeps a new row, also with empty cells', () => {
  const fresh = { id: 'n', fresh: true, label: 'new' };
  const all = staged(NOTHING, [
    { row: fresh, key: 'name', text: 'pH', was: '' },
    { row: fresh, key: 'unit', text: '', was: '' },
  ]);
  expect(cellCount(all)).toBe(2);
  expect(without(all, 'n').size).toBe(0);
});

it('takes back one cell, or lets it win over what somebody else wrote', () => {
  const all = staged(NOTHING, [
    { row, key: 'unit', text: 'm', was: '%' },
    { row, key: 'note', text: 'x', was: '' },
  ]);
  expect(Object.keys(without(all, 'a', 'unit').get('a')?.cells ?? {})).toEqual(['note']);
  expect(insisted(all, 'a', 'unit', 'l').get('a')?.cells.unit).toEqual({ text: 'm', was: 'l' });
});

it.each([
  ['EX-1 Level', 'ex-1', 'EX-2', false, 'EX-2 Level'],
  ['EX-1 Level', 'ex-1', 'EX-2', true, undefined],
  ['a.b.c', '.', '', true, 'abc'],
  ['cost $1', '1', '$&', true, 'cost $$&'],
  ['same', 'same', 'same', true, undefined],
  ['any', '', 'x', true, undefined],
])('%s with %s by %s', (text, find, by, matchCase, wanted) => {
  expect(replaced(text, find, by, matchCase)).toBe(wanted);
});
