import { expect, test } from 'vitest';
import { NOTHING, type Offer } from './below';
import {
  alikeOf,
  isFound,
  isWanted,
  type Known,
  PARTS,
  partsOf,
  pathOf,
  placeOf,
  resolved,
  rowsOf,
  type Wanted,
  walk,
} from './tree';

const offer = (id: string, more: Partial<Offer> = {}): Offer => ({
  ...NOTHING,
  id,
  name: id.toUpperCase(),
  branch: false,
  ...more,
});
const folder = (id: string) => offer(id, { branch: true });
const value = (id: string, about = 'Double', writable = false) => offer(id, { point: { address: id } as never, about, writable });
const list = (...nodes: Offer[]): Known => ({ nodes, more: false });

const TREE = new Map<string, Known>([
  ['', list(folder('a'), folder('b'))],
  ['a', list(value('x'), folder('c'))],
  ['c', list(value('y', 'String'), value('z', 'Int32', true), folder('a'))],
  ['b', list(value('x'))],
]);
const children = async (node: string) => TREE.get(node) ?? list();
const top = (id: string) => ({ offer: folder(id), above: [] });
const never = () => false;
const taking = (wanted: Wanted) => ({
  keep: (o: Offer) => isWanted(o, wanted),
  children,
  tell: () => {},
  cancelled: never,
});

test('open nodes show their children with the path that leads there', () => {
  const rows = rowsOf(TREE, new Set(['a', 'a\nc']));
  expect(rows.map((r) => [pathOf(r).join('/'), r.offer.id])).toEqual([
    ['', 'a'],
    ['A', 'x'],
    ['A', 'c'],
    ['A/C', 'y'],
    ['A/C', 'z'],
    ['A/C', 'a'],
    ['', 'b'],
  ]);
});

test('names by example come from the levels of a topic, or from what stands above a node', () => {
  const inside = (id: string, more: Partial<Offer> = {}) => offer(id, { inside: true, ...more });
  const of = (topic: string, ...names: string[]) => ({
    offer: inside(names.at(-1) ?? '', { point: { topic } as never }),
    above: [folder('site'), ...names.slice(0, -1).map((name) => inside(name))],
  });
  const parts = partsOf(of('site/m1/json', 'day', 'power'));
  expect(parts).toEqual(['site', 'm1', 'json', '', '', '', '', '', '', '', 'DAY POWER']);
  expect(PARTS.topics).toHaveLength(parts.length);
  expect(partsOf(of('1/2/3/4/5/6/7/8/9/10/11/12', 'power'))).toHaveLength(parts.length);
  expect(partsOf({ offer: value('x'), above: [folder('a'), folder('b'), folder('c')] })).toEqual(['A / B', 'C', 'X']);
});

test('what is new is marked, and what is gone stands below the rest', () => {
  const marks = new Map([['a', { new: ['c'], gone: [['g', 'Gone']] as [string, string][] }]]);
  const rows = rowsOf(TREE, new Set(['a']), marks);
  expect(rows.map((r) => [r.offer.name, r.mark])).toEqual([
    ['A', undefined],
    ['X', undefined],
    ['C', 'new'],
    ['Gone', 'gone'],
    ['B', undefined],
  ]);
});

test('a node that stands above itself is not gone into', () => {
  const rows = rowsOf(TREE, new Set(['a', 'a\nc', 'a\nc\na']));
  expect(rows.find((r) => r.key === 'a\nc\na')?.again).toBe(true);
  expect(rows).toHaveLength(7);
});

test('a walk takes everything below once, in order, and ends in a circle', async () => {
  const told: number[] = [];
  const { found, whole } = await walk(top('a'), { ...taking('every'), tell: (w) => told.push(w.found) });
  expect(found.map((f) => [...pathOf(f), f.offer.id].join('/'))).toEqual(['A/x', 'A/C/y', 'A/C/z']);
  expect([whole, told.at(-1)]).toEqual([true, 3]);
});

test('a walk takes only what is wanted', async () => {
  const numbers = await walk(top('a'), taking('numbers'));
  expect(numbers.found.map((f) => f.offer.id)).toEqual(['x', 'z']);
  const writable = await walk(top('a'), taking('writable'));
  expect(writable.found.map((f) => f.offer.id)).toEqual(['z']);
  expect(isWanted(value('v', 'Double, array'), 'numbers')).toBe(false);
});

test('a cancelled walk gives what it has and says that it is not all', async () => {
  const steps: number[] = [];
  const { found, whole } = await walk(top('a'), { ...taking('every'), cancelled: () => steps.push(1) > 2 });
  expect([found.length, whole]).toEqual([1, false]);
});

test('a node that does not answer is left out, but many of them end the walk', async () => {
  const failing = (some: (node: string) => boolean) => async (node: string) => {
    if (some(node)) throw new Error(`no answer of ${node}`);
    return TREE.get(node) ?? list(...Array.from({ length: 30 }, (_, i) => folder(`f${i}`)));
  };
  const one = await walk(top('a'), { ...taking('every'), children: failing((node) => node === 'c') });
  expect([one.found.map((f) => f.offer.id), one.whole]).toEqual([['x'], false]);
  await expect(walk(top('a'), { ...taking('every'), children: failing(() => true) })).rejects.toThrow('no answer of a');
  const many = walk(top('wide'), { ...taking('every'), children: failing((node) => node.startsWith('f')) });
  await expect(many).rejects.toThrow('no answer of f20');
});

test('a folder that is not listed whole makes the walk incomplete', async () => {
  const { whole } = await walk(top('a'), { ...taking('every'), children: async () => ({ nodes: [], more: true }) });
  expect(whole).toBe(false);
});

test('a place that is there is found by the end of its path', () => {
  const places = ['Works', 'Works/Drying', 'Works/Drying/Mill', 'Works/Packing'];
  expect(placeOf(['Drying', 'Mill'], places)).toBe('Works/Drying/Mill');
  expect(placeOf(['Packing', 'Silo 1'], places)).toBe('Works/Packing/Silo 1');
  expect(placeOf(['Silo 1'], [])).toBe('Silo 1');
  expect(placeOf(['Mill'], ['A/Mill', 'B/Mill'])).toBe('Mill');
  expect(placeOf([], places)).toBe('');
});

test('elements and members are gone into only where the walk begins at their value', async () => {
  const inner = offer('part=/0;w', { inside: true, point: { address: 'w', element: '0' } as never, about: 'Double' });
  const array = offer('w', { branch: true, point: { address: 'w' } as never, about: 'Double, array' });
  const tree = new Map([
    ['f', list(array)],
    ['w', list(inner)],
  ]);
  const taken = { ...taking('every'), children: async (node: string) => tree.get(node) ?? list() };
  const ids = async (from: Offer) => (await walk({ offer: from, above: [] }, taken)).found.map((f) => f.offer.id);
  expect(await ids(folder('f'))).toEqual(['w']);
  expect(await ids(array)).toEqual(['w', 'part=/0;w']);
});

test('a method is taken only where what can be written is wanted', () => {
  const method = offer('m', { point: { address: 'o', method: 'm' } as never, writable: true });
  expect([isWanted(method, 'every'), isWanted(method, 'writable')]).toEqual([false, true]);
});

test('words find a node by its name, its description or its id', () => {
  const one = offer('ns=2;s=Zone1.T', { name: 'Temperature', description: 'Behind the zone' });
  expect(['temp zone1', 'behind', 'TEMP', ''].map((words) => isFound(one, words))).toEqual([true, true, true, true]);
  expect(isFound(one, 'temp humidity')).toBe(false);
  // The filter by which a topic is heard is no part of it.
  const topic = offer('filter=works/#;topic=works/M1', { name: 'M1' });
  expect(['works m1', 'filter', 'topic', '#'].map((words) => isFound(topic, words))).toEqual([true, false, false, false]);
});

test('what was chosen below one object is found below another of the same type', async () => {
  const zone = (id: string) => offer(id, { branch: true, of_type: 'Zone', about: 'ZoneType' });
  const at = (id: string, above: Offer[]) => ({ offer: value(id), above });
  const fan = folder('fan');
  const chosen = [
    at('t', [folder('dryer'), zone('z1')]),
    at('speed', [zone('z1'), fan]),
    at('t', [zone('z2')]),
    at('free', [fan]),
  ];
  const alike = alikeOf(chosen);
  expect(alike).toEqual([{ type: 'Zone', name: 'ZoneType', paths: [['T'], ['FAN', 'SPEED']] }]);
  const tree = new Map([
    ['z3', list(value('t3'), folder('fan3'))],
    ['fan3', list(offer('s3', { name: 'SPEED', point: {} as never }))],
  ]);
  (tree.get('z3')?.nodes[0] as Offer).name = 'T';
  (tree.get('z3')?.nodes[1] as Offer).name = 'FAN';
  const below = async (node: string) => tree.get(node) ?? list();
  const found = await resolved({ offer: zone('z3'), above: [] }, [...(alike[0]?.paths ?? []), ['GONE']], below);
  expect(found.map((f) => [...pathOf(f), f.offer.id].join('/'))).toEqual(['Z3/t3', 'Z3/FAN/s3']);
});
