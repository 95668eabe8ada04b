import { expect, test } from 'vitest';
import { mapRows, nextOffset } from './map-rows';

const span = (start: number, count: number, title: string) => ({
  space: 'unit 1 holding',
  start,
  count,
  kind: 'tag',
  title,
  tag: null,
});

test('the map shows rows with something in them and says what is free between', () => {
  const rows = mapRows([span(0, 2, 'Level'), span(1, 1, 'Again'), span(125, 2, 'Far')]);
  expect(rows).toHaveLength(3);
  expect(rows[1]).toEqual({ free: [20, 119] });
  const first = rows[0];
  expect(first && 'cells' in first && first.cells[1]?.spans.map((s) => s.title)).toEqual(['Level', 'Again']);
});

test('a map of nothing has no rows', () => expect(mapRows([])).toEqual([]));

test('the next member begins behind the last, arrays and texts included', () => {
  const row = (offset: string, type: string, more = {}) => ({ offset, type, length: '', count: '1', stride: '', ...more });
  expect(nextOffset([])).toBe(0);
  expect(nextOffset([row('4', 'f32'), row('0', 'u16')])).toBe(6);
  expect(nextOffset([row('0', 'text', { length: '8' })])).toBe(8);
  expect(nextOffset([row('2', 'u16', { count: '4', stride: '10' })])).toBe(33);
  expect(nextOffset([row('0', 'f64')])).toBe(4);
});
