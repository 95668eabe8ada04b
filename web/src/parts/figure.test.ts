import { expect, test } from 'vitest';
import type { Item } from '../api/model';
import { asNamed, tagIn, trackIn } from './figure';

const tag = { id: 't', no: 7, title: 'Works/EX-1/Level', set: { name: 'Level', states: 's' }, holds: 'bool' } as Item<'tag'>;

test('a name says which tag and which figure', () => {
  expect([tagIn('t'), trackIn('t')]).toEqual(['t', undefined]);
  expect([tagIn('t.average.r'), trackIn('t.average.r')]).toEqual(['t', 'average']);
});

test('a figure is a number of its own, and the value stays as it is', () => {
  expect(asNamed('t', tag)).toBe(tag);
  const figure = asNamed('t.maximum.r', tag);
  expect(figure).toMatchObject({ id: 't.maximum.r', no: 0, title: 'Works/EX-1/Level, maximum', holds: 'f64' });
  expect(figure.set).toMatchObject({ name: 'Level, maximum', states: null });
});
