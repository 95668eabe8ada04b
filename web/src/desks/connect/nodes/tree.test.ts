import { expect, test } from 'vitest';
import type { Offer } from '../below';
import { isWanted, type Known, placeOf, rowsOf, walk } from './tree';

const offer = (id: string, more: Partial<Offer> = {}): Offer => ({
  id,
  name: id.toUpperCase(),
  parts: [],
  branch: false,
  about: '',
  description: '',
  writable: false,
  states: [],
  point: null,
  set: {},
  refused: '',
  readings: [],
  taken: '',
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
const top = (id: string) => ({ offer: folder(id), path: [] });
const never = () => false;

test('open nodes show their children with the path that leads there', () => {
  const rows = rowsOf(TREE, new Set(['a', 'a\nc']));
  expect(rows.map((r) => [r.path.join('/'), r.offer.id])).toEqual([
    ['', 'a'],
    ['A', 'x'],
    ['A', 'c'],
    ['A/C', 'y'],
    ['A/C', 'z'],
    ['A/C', 'a'],
    ['', 'b'],
  ]);
});

test('a node that stands above itself is not gone into', () => {
  const rows = rowsOf(TREE, new Set(['a', 'a\nc', 'a\nc\na']));
  expect(rows.find((r) => r.key === 'a\nc\na')?.again).toBe(true);
  expect(rows).toHaveLength(7);
});

test('a walk takes everything below once, in order, and ends in a circle', async () => {
  const told: number[] = [];
  const { found, whole } = await walk(top('a'), 'every', children, (w) => told.push(w.values), never);
  expect(found.map((f) => [...f.path, f.offer.id].join('/'))).toEqual(['A/x', 'A/C/y', 'A/C/z']);
  expect([whole, told.at(-1)]).toEqual([true, 3]);
});

test('a walk takes only what is wanted', async () => {
  const numbers = await walk(top('a'), 'numbers', children, () => {}, never);
  expect(numbers.found.map((f) => f.offer.id)).toEqual(['x', 'z']);
  const writable = await walk(top('a'), 'writable', children, () => {}, never);
  expect(writable.found.map((f) => f.offer.id)).toEqual(['z']);
  expect(isWanted(value('v', 'Double, array'), 'numbers')).toBe(false);
});

test('a cancelled walk gives what it has and says that it is not all', async () => {
  const steps: number[] = [];
  const { found, whole } = await walk(
    top('a'),
    'every',
    children,
    () => {},
    () => steps.push(1) > 2,
  );
  expect([found.length, whole]).toEqual([1, false]);
});

test('a folder that is not listed whole makes the walk incomplete', async () => {
  const { whole } = await walk(
    top('a'),
    'every',
    async () => ({ nodes: [], more: true }),
    () => {},
    never,
  );
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
