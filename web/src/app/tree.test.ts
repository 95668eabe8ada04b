import { expect, it } from 'vitest';
import { type Node, type Spot, treeOf } from '../api/places';
import type { Alarm } from '../api/queries';
import { merged, pathOf } from '../api/tree';
import {
  alarmsUnder,
  finder,
  inOrder,
  moveEdits,
  nestingWords,
  orderBetween,
  pathsInOrder,
  rolledUp,
  rowsOf,
  standing,
  targetAt,
  topsOf,
} from './tree';

function spot(id: string, parent: string | null, order: number, more: Partial<Spot> = {}): Spot {
  return { id, parent, name: id, level: 'unit', order, in_service: true, one: false, part: false, ...more };
}

const places = [spot('b', 'site', 1), spot('a', 'site', 2), spot('site', null, 0), spot('c', 'a', 0), spot('lost', 'gone', 5)];
const plantOf = (list: Spot[]) => ({ byId: new Map(list.map((p) => [p.id, p])), top: treeOf(list) });
const plant = plantOf(places);
const { byId } = plant;

it('keeps the order of the engineer, not of the alphabet', () => {
  const rows = rowsOf(treeOf(places), () => true);
  expect(rows.map((r) => `${standing(byId, r.spot).depth}${r.spot.id}`)).toEqual(['0site', '1b', '1a', '2c', '0lost']);
});

it('leaves out what lies under a closed place', () => {
  expect(rowsOf(treeOf(places), (id) => id === 'site').map((r) => r.spot.id)).toEqual(['site', 'b', 'a', 'lost']);
});

it('knows what is out of service with what is above it', () => {
  const stopped = plantOf(places.map((p) => (p.id === 'a' ? { ...p, in_service: false } : p)));
  const idle = rowsOf(stopped.top, () => true).filter((r) => standing(stopped.byId, r.spot).idle);
  expect(idle.map((r) => r.spot.id)).toEqual(['a', 'c']);
});

it('finds places where they stand', () => {
  const rows = rowsOf(finder()(treeOf(places), 'c'), () => true);
  expect(rows.map((r) => r.spot.id)).toEqual(['site', 'a', 'c']);
  expect(finder()(treeOf(places), 'nothing')).toEqual([]);
});

it('shows a branch of which nothing is left out as it is', () => {
  const tree = treeOf(places);
  expect(finder()(tree, '')).toBe(tree);
  const [site] = finder()(tree, 'site');
  expect(site?.children).toEqual([]);
  // All of it is kept by its names, so nothing is made anew.
  const two = treeOf([spot('hall', null, 0), spot('hall 1', 'hall', 0), spot('yard', null, 1)]);
  expect(finder()(two, 'hall')[0]).toBe(two[0]);
});

it('finds the same step by step as at once, in a plant that changes', () => {
  const many = Array.from({ length: 60 }, (_, i) => spot(`u${i % 7} p${i}`, i < 6 ? null : `u${(i % 6) % 7} p${i % 6}`, i));
  const find = finder();
  let whole = merged(undefined, { revision: 1, whole: true, places: many, gone: [] });
  const ids = (nodes: readonly Node[]) => rowsOf(nodes, () => true).map((r) => r.spot.id);
  for (const [i, text] of ['p', 'p1', 'p1 ', 'p1 u', 'p1 u3', 'p1', 'p', '', 'u3', 'u3 P4', 'x', 'p5'].entries()) {
    expect(ids(find(whole.top, text)), text).toEqual(ids(finder()(whole.top, text)));
    const renamed = { ...(many[i * 4] as Spot), name: `p1 u3 new ${i}`, parent: null };
    whole = merged(whole, { revision: i + 2, whole: false, places: [renamed], gone: [] });
    expect(ids(find(whole.top, text)), text).toEqual(ids(finder()(whole.top, text)));
  }
});

it('gives the places that are wanted in the order of the tree, and every path', () => {
  const stopped = plantOf(places.map((p) => (p.id === 'a' ? { ...p, in_service: false } : p)));
  const wanted = inOrder(stopped, ['c', 'b', 'gone']);
  expect(wanted.map(({ spot, idle }) => [spot.id, idle])).toEqual([
    ['b', false],
    ['c', true],
  ]);
  expect(pathsInOrder(treeOf(places))).toEqual(['site', 'site/b', 'site/a', 'site/a/c', 'lost']);
});

it('rolls alarms up to every place above', () => {
  const alarm = { place: 'c' } as Alarm;
  const under = alarmsUnder(byId, [alarm]);
  expect(['c', 'a', 'site', 'b'].map((id) => under.get(id)?.length ?? 0)).toEqual([1, 1, 1, 0]);
});

it('counts a thing once above, however much is wrong with it', () => {
  const counts = { c: 2, b: 1, unknown: 5 };
  const of = (list: Spot[]) => {
    const sums = rolledUp(new Map(list.map((p) => [p.id, p])), counts);
    return ['c', 'a', 'b', 'site'].map((id) => sums.get(id) ?? 0);
  };
  expect(of(places)).toEqual([2, 2, 1, 3]);
  expect(of(places.map((p) => ({ ...p, one: p.id === 'c' })))).toEqual([2, 1, 1, 2]);
});

it('finds room between, before and after', () => {
  expect([
    orderBetween(1, 2),
    orderBetween(undefined, 3),
    orderBetween(4, undefined),
    orderBetween(undefined, undefined),
  ]).toEqual([1.5, 2, 5, 0]);
});

/** How the places stand after edits, as “depth name”. */
function after(ids: string[], to: Parameters<typeof moveEdits>[2], list = places) {
  const edits = moveEdits(plantOf(list), ids, to);
  const moved = plantOf(
    list.map((p) => {
      const edit = edits.find((e) => e.id === p.id);
      return edit && 'set' in edit ? { ...p, ...(edit.set as Partial<Spot>) } : p;
    }),
  );
  return rowsOf(moved.top, () => true)
    .map((r) => `${standing(moved.byId, r.spot).depth}${r.spot.id}`)
    .join(' ');
}

it('moves places before, behind and into others', () => {
  expect(after(['a'], { parent: 'site', before: 'b' })).toBe('0site 1a 2c 1b 0lost');
  expect(after(['b'], { parent: 'site', before: undefined })).toBe('0site 1a 2c 1b 0lost');
  expect(after(['b', 'c'], { parent: null, before: 'site' })).toBe('0c 0b 0site 1a 0lost');
  expect(after(['b'], { parent: 'a', before: 'c' })).toBe('0site 1a 2b 2c 0lost');
});

it('moves nothing under itself or to where it is', () => {
  expect(moveEdits(plant, ['site'], { parent: 'c', before: undefined })).toEqual([]);
  expect(moveEdits(plant, ['b'], { parent: 'site', before: 'b' })).toEqual([]);
  expect(moveEdits(plant, ['b'], { parent: 'site', before: 'a' })).toEqual([]);
});

it('numbers siblings anew where there is no room between them', () => {
  const tight = [spot('x', null, 1), spot('y', null, 1 + 1e-9), spot('z', null, 2)];
  expect(after(['z'], { parent: null, before: 'y' }, tight)).toBe('0x 0z 0y');
});

it('takes the highest of what is chosen', () => {
  expect(topsOf(byId, ['c', 'a', 'b', 'gone'])).toEqual(['a', 'b']);
});

it('knows where a drop leads', () => {
  const a = spot('a', 'site', 2);
  expect(targetAt(plant, spot('b', 'site', 1), 'after')).toEqual({ parent: 'site', before: 'a' });
  expect(targetAt(plant, a, 'after')).toEqual({ parent: 'site', before: undefined });
  expect(targetAt(plant, a, 'into')).toEqual({ parent: 'a', before: undefined });
});

it('tells unusual nesting', () => {
  expect(nestingWords('area', 'unit')).toBe('An area under a unit is unusual');
  expect(nestingWords('equipment', 'equipment')).toBeUndefined();
  expect(nestingWords('unit', 'area')).toBeUndefined();
  expect(nestingWords('site', undefined)).toBeUndefined();
});

it('takes in only what changed', () => {
  const whole = merged(undefined, { revision: 3, whole: true, places, gone: [] });
  const next = merged(whole, { revision: 4, whole: false, places: [spot('c', 'b', 0)], gone: ['lost'] });
  expect([next.revision, next.byId.size, pathOf(next, 'c'), pathOf(next, 'lost')]).toEqual([4, 4, 'site/b/c', '']);
});
