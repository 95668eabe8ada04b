import { expect, it } from 'vitest';
import type { Schemas } from '../api/client';
import type { Item } from '../api/model';
import { alarmsUnder, orderBetween, rowsOf, sumsUnder, treeOf } from './tree';

function place(id: string, parent: string | null, order: number): Item<'place'> {
  return { id, no: 0, revision: 1, title: id, source: '', set: { parent, name: id, level: 'unit', order, note: '' } };
}

const places = [
  place('b', 'site', 1),
  place('a', 'site', 2),
  place('site', null, 0),
  place('c', 'a', 0),
  place('lost', 'gone', 5),
];

it('keeps the order of the engineer, not of the alphabet', () => {
  const rows = rowsOf(treeOf(places), () => true);
  expect(rows.map((r) => `${r.depth}${r.node.item.id}`)).toEqual(['0site', '1b', '1a', '2c', '0lost']);
});

it('leaves out what lies under a closed place', () => {
  expect(rowsOf(treeOf(places), (id) => id === 'site').map((r) => r.node.item.id)).toEqual(['site', 'b', 'a', 'lost']);
});

it('rolls alarms up to every place above', () => {
  const alarm = { place: 'c' } as Schemas['AlarmView'];
  const under = alarmsUnder(places, [alarm]);
  expect(['c', 'a', 'site', 'b'].map((id) => under.get(id)?.length ?? 0)).toEqual([1, 1, 1, 0]);
});

it('finds room between, before and after', () => {
  expect([
    orderBetween(1, 2),
    orderBetween(undefined, 3),
    orderBetween(4, undefined),
    orderBetween(undefined, undefined),
  ]).toEqual([1.5, 2, 5, 0]);
});

it('sums what is bad up to every place above', () => {
  const sums = sumsUnder(places, { c: 2, b: 1, unknown: 5 });
  expect(['c', 'a', 'b', 'site'].map((id) => sums.get(id) ?? 0)).toEqual([2, 2, 1, 3]);
});
