// @vitest-environment jsdom
import { expect, test } from 'vitest';
import { argumentsOf, argumentValue, sentFor } from './call';

test('arguments are read from the words of the driver', () => {
  expect(argumentsOf('From: UInt32, Name: String')).toEqual([
    { name: 'From', type: 'UInt32' },
    { name: 'Name', type: 'String' },
  ]);
  expect(argumentsOf('')).toEqual([]);
  expect(argumentsOf(undefined)).toEqual([]);
});

test('each argument is read as its type says, or refused', () => {
  const value = (type: string, text: string) => argumentValue({ name: 'a', type }, text);
  expect(value('UInt32', '40')).toEqual({ value: 40 });
  expect(value('UInt64', '18446744073709551615')).toEqual({ value: '18446744073709551615' });
  expect(value('String', '40')).toEqual({ value: '40' });
  expect(value('Boolean', 'off')).toEqual({ value: false });
  expect(value('Boolean', '')).toEqual({ wrong: 'Choose on or off.' });
  expect(value('Double', 'a')).toEqual({ wrong: 'Type a number.' });
  expect(value('Double', '')).toEqual({ wrong: 'Type a number.' });
});

test('several arguments travel as a list', () => {
  expect([sentFor([]), sentFor([5]), sentFor([5, 'A'])]).toEqual([true, 5, '[5,"A"]']);
});
