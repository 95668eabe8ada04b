import { expect, it } from 'vitest';
import { emptied } from './tag-settings';

it('says that a field is empty only over what a class says of it', () => {
  const tag = { inherited: { connection: 'a', range_high: null } };
  expect(emptied(tag, 'connection', null)).toEqual({ empty: true });
  expect(emptied(tag, 'range_high', null)).toBeNull();
  expect(emptied(tag, 'unit', null)).toBeNull();
  expect(emptied(tag, 'connection', 'b')).toBe('b');
  expect(emptied({}, 'connection', null)).toBeNull();
});
