import { expect, it } from 'vitest';
import { sparkPath } from './spark';

const at = (seconds: number) => seconds * 1e9;

it('lifts the pen over gaps and holds the last value to the end', () => {
  const values = [0, 10, null, 5];
  const path = sparkPath({ offset: [at(0), at(225), at(450), at(675)], minimum: values, maximum: values, last: values }, 64, 18);
  expect(path).toBe('M0.0 16.5H16.0V1.5H32.0M48.0 9.0H64');
  expect(sparkPath({ offset: [0], minimum: [null], maximum: [null], last: [null] })).toBe('');
});
