import { expect, it } from 'vitest';
import { sparkPath, stretches } from './spark';

const at = (seconds: number) => seconds * 1e9;

it('lifts the pen over gaps and holds the last value to the end', () => {
  const values = [0, 10, null, 5];
  const path = sparkPath({ offset: [at(0), at(225), at(450), at(675)], minimum: values, maximum: values, last: values }, 64, 18);
  expect(path).toBe('M0.0 16.5H16.0V1.5H32.0M48.0 9.0H64');
  expect(sparkPath({ offset: [0], minimum: [null], maximum: [null], last: [null] })).toBe('');
});

it('makes one stretch of each state that held, and none where nothing is known', () => {
  const columns = { offset: [0, 10, 20, 30, 40].map(at), last: [1, 1, 2, null, 1] };
  expect(stretches(columns, 100, 100_000)).toEqual([
    { from: 0, to: 20, state: 1 },
    { from: 20, to: 30, state: 2 },
    { from: 40, to: 100, state: 1 },
  ]);
});
