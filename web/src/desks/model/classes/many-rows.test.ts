import { expect, it } from 'vitest';
import { filled } from './many-rows';

const columns = [{ key: 'name' }, { key: 'place' }, { key: 'base' }];

it('changes one cell', () => {
  const rows = [{ name: 'EX-1', place: 'Extraction', base: '100' }];
  expect(filled(rows, columns, 0, 'base', [['140']])).toEqual([{ name: 'EX-1', place: 'Extraction', base: '140' }]);
});

it('takes a block of a spreadsheet, over rows that are there and behind them', () => {
  const rows = [{ name: 'EX-1', place: 'Extraction', base: '100' }];
  const block = [
    ['A', 'Drying', '1', 'too wide'],
    ['B', 'Packing', '2'],
  ];
  expect(filled(rows, columns, 0, 'name', block)).toEqual([
    { name: 'A', place: 'Drying', base: '1' },
    { name: 'B', place: 'Packing', base: '2' },
  ]);
});

it('lays a new row where the one above it lies', () => {
  const rows = [{ name: 'EX-1', place: 'Extraction' }];
  expect(filled(rows, columns, 1, 'name', [['EX-2']])[1]).toEqual({ name: 'EX-2', place: 'Extraction' });
});
