import { expect, test } from 'vitest';
import { NOTHING, type Offer } from '../../../parts/nodes/below';
import { fits, likeIt, likeTags, mappingOf, takenOf } from './mapping';

const offer = (name: string, more: Partial<Offer> = {}): Offer => ({ ...NOTHING, branch: false, name, ...more });
const topic = 'works/north/meter/M7/json';
const above = ['works', 'north', 'meter', 'M7', 'json'].map((name) => offer(name));
const member = (name: string, inside: string[] = []) => ({
  offer: offer(name, { inside: true, point: { topic, member: `/${[...inside, name].join('/')}`, time: '/ts' } as never }),
  above: [...above, ...inside.map((one) => offer(one, { inside: true }))],
});

test.each([
  ['a/b', 'a/+', true],
  ['a', 'a/#', true],
  ['a/b/c', 'a/+', false],
  ['a', 'a/+', false],
  ['a/b', 'b/b', false],
])('%s fits %s: %s', (name, filter, expected) => {
  expect(fits(name, filter)).toBe(expected);
});

test('levels with a digit are taken for those that differ', () => {
  expect(likeIt('works/line 2/meter/M7/json')).toBe('works/+/meter/+/json');
});

test('chosen values become the tags of every topic like theirs', () => {
  const made = mappingOf([member('power'), member('[0]', ['voltage']), member('power', ['last day'])], '#');
  expect([made.topics, made.place]).toEqual(['works/north/meter/+/json', 'works / north / meter / {4}']);
  expect(made.tags.map(({ name, point }) => [name, point])).toEqual([
    ['power', { member: '/power', time: '/ts' }],
    ['voltage 0', { member: '/voltage/[0]', time: '/ts' }],
    ['last day power', { member: '/last day/power', time: '/ts' }],
  ]);
});

test('what is listened to says which levels differ', () => {
  expect(mappingOf([member('power')], ' works/+/meter/+/json ').place).toBe('works / {2} / meter / {4}');
  // A filter of other topics does not.
  expect(mappingOf([member('power')], 'elsewhere/+').topics).toBe('works/north/meter/+/json');
});

test('a plain message is called after its topic', () => {
  const plain = { offer: offer('T12', { point: { topic: 'hall/T12', format: 'number' } as never }), above: [offer('hall')] };
  const made = mappingOf([plain], '#');
  expect([made.topics, made.tags[0]?.name, made.place]).toEqual(['hall/+', '{2}', 'hall / {2}']);
});

test('a mapping is named after the tags that read one of its topics already', () => {
  const draft = mappingOf([member('power'), member('energy')], '#');
  const tag = (name: string, taken: string) => ({ place: 'P', name, taken, clash: false });
  const free = { key: 'works/north/meter/M2/json', tags: [tag('power', ''), tag('energy', '')], refused: '' };
  const known = { key: topic, tags: [tag('power', 'Works/Meter M7/Power'), tag('energy', 'Works/Meter M7/Energy')], refused: '' };
  const next = likeTags(draft, [free, known]);
  expect([next?.place, next?.tags.map(({ name }) => name)]).toEqual(['Works / Meter {4}', ['Power', 'Energy']]);
  expect(next && likeTags(next, [free, known])).toBeNull();
  expect(likeTags(draft, [free])).toBeNull();
  // Tags that lie apart give no place.
  const apart = { ...known, tags: [tag('power', 'Works/A/Power'), tag('energy', 'Works/B/Energy')] };
  expect(likeTags(draft, [apart])).toBeNull();
});

test.each([
  [{ member: '/power' }, '/power'],
  [{ format: 'json' }, 'all of it'],
  [{ format: 'line', column: 3 }, 'field 3'],
  [{ format: 'number' }, 'number'],
])('%j is %s', (point, words) => {
  expect(takenOf({ name: '', unit: '', decimals: null, point })).toBe(words);
});
