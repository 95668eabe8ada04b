// @vitest-environment jsdom
import { expect, test } from 'vitest';
import { fits } from './traffic';

const exchange = { unit: 3, asked: 'read holding 0–9', answered: 'No answer within 1000 ms.', passed: false };

test.each([
  ['', false, true],
  ['unit 3', true, true],
  ['HOLDING answer', false, true],
  ['write', false, false],
])('a filter of “%s” (failed only: %s)', (text, failed, expected) => {
  expect(fits(exchange, text, failed)).toBe(expected);
});

test('what passed is hidden where only failures are wanted', () => {
  expect(fits({ ...exchange, passed: true }, '', true)).toBe(false);
});
