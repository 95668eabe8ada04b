import { expect, it } from 'vitest';
import { type Spot, treeOf } from '../../api/places';
import { cardsOf, type Tag } from './cards';

const spot = (id: string, parent: string | null, part = false): Spot => ({
  id,
  parent,
  name: id,
  level: id === 'area' ? 'area' : 'unit',
  order: 0,
  in_service: true,
  one: false,
  part,
});

const spots = [
  spot('area', null),
  spot('dryer', 'area'),
  spot('zone', 'dryer', true),
  spot('fan', 'zone', true),
  spot('mill', 'area'),
  spot('motor', 'mill'),
];
const tree = { byId: new Map(spots.map((s) => [s.id, s])), top: treeOf(spots) };
const tag = (id: string, place: string) => ({ id, set: { place } }) as unknown as Tag;
const tags = [tag('a', 'dryer'), tag('b', 'zone'), tag('c', 'fan'), tag('d', 'mill'), tag('e', 'motor')];

const told = (at?: string) =>
  cardsOf(tree, tags, at).map(
    (card) => `${card.place.id}: ${[card.tags.length, ...card.parts.map((p) => p.place.id)].join(' ')}`,
  );

it('puts parts on the card of their equipment, at any depth, and other equipment on its own', () => {
  expect(told()).toEqual(['dryer: 1 zone fan', 'mill: 1', 'motor: 1']);
});

it('names the equipment around a card that is no part, unless it was chosen', () => {
  const around = (at?: string) => cardsOf(tree, tags, at).map((card) => card.of);
  expect(around()).toEqual([undefined, undefined, 'mill']);
  expect(around('mill')).toEqual([undefined, undefined, undefined]);
});

it('gives a part a card of its own where it was chosen itself', () => {
  const below = cardsOf(tree, tags.slice(1, 3), 'zone').map((card) => [card.place.id, card.parts.map((p) => p.place.id)]);
  expect(below).toEqual([['zone', ['fan']]]);
});

it('shows a part whose equipment has no value itself on the card of that equipment', () => {
  const found = cardsOf(tree, [tag('b', 'zone')], undefined);
  expect(found.map((card) => [card.place.id, card.tags, card.parts.length])).toEqual([['dryer', [], 1]]);
});
