import { expect, it } from 'vitest';
import type { Found } from '../../../parts/nodes/sources';
import { bindings, clashing, rowsOf, targetOf } from './rows';

const found = (key: string) => ({ key, name: key }) as Found;
const fitting = (tag: string) => ({ tag, title: `Works/${tag}`, score: 80, reasons: [], doubts: [] });

it('shows what is proposed first, then what has something that fits', () => {
  const matched = [
    { best: null, rivals: [] },
    { best: null, rivals: [fitting('b'), fitting('c')] },
    { best: fitting('a'), rivals: [fitting('b')] },
  ];
  const rows = rowsOf([found('1'), found('2'), found('3')], matched);
  expect(rows.map((row) => row.found.key)).toEqual(['3', '2', '1']);
  expect(rows[0]?.fits.map((f) => f.tag)).toEqual(['a', 'b']);
});

it('binds what is proposed unless somebody chose otherwise', () => {
  const rows = rowsOf(
    [found('1'), found('2')],
    [
      { best: fitting('a'), rivals: [] },
      { best: fitting('b'), rivals: [] },
    ],
  );
  const other = { id: 'a', title: 'Works/a' };
  expect(bindings(rows, {}).map((b) => b.target.id)).toEqual(['a', 'b']);
  expect(targetOf(rows[0] as never, { '1': null })).toBeUndefined();
  const all = bindings(rows, { '2': other });
  expect(all.map((b) => b.target.id)).toEqual(['a', 'a']);
  expect([...clashing(all)]).toEqual(['a']);
  expect(clashing(bindings(rows, { '1': null, '2': other })).size).toBe(0);
});
