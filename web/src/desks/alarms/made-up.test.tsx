import { expect, test } from 'vitest';
import { madeUp, pointsOf, type Typed } from './made-up';

const typed = (more: Partial<Typed>): Typed => ({
  shape: 'hold',
  from: '5',
  to: '9',
  at: '20',
  back: '',
  points: '',
  badFrom: '',
  badTo: '',
  ...more,
});

test('points by hand are pairs with commas between; anything else is refused whole', () => {
  expect(pointsOf('0 20, 30 85.5,60 -2')).toEqual([
    [0, 20],
    [30, 85.5],
    [60, -2],
  ]);
  for (const text of ['0 20, 30', '0 x', '7 8 9', '0 20,', '']) expect(pointsOf(text)).toBeUndefined();
});

test('each shape is sent with its own numbers', () => {
  expect(madeUp('t', typed({}))).toEqual({ tag: 't', shape: 'hold', value: 5 });
  expect(madeUp('t', typed({ shape: 'noise' }))).toEqual({ tag: 't', shape: 'noise', around: 5, width: 9 });
  expect(madeUp('t', typed({ shape: 'step' }))).toEqual({ tag: 't', shape: 'step', from: 5, to: 9, at_s: 20 });
  expect(madeUp('t', typed({ shape: 'step', back: '40' }))).toMatchObject({ back_s: 40 });
  expect(madeUp('t', typed({ shape: 'ramp', badFrom: '3', badTo: '8' }))).toEqual({
    tag: 't',
    shape: 'ramp',
    from: 5,
    to: 9,
    bad: [3, 8],
  });
});

test('what is no number is not sent', () => {
  expect(madeUp('t', typed({ badFrom: '3' }))).toBeUndefined();
  expect(madeUp('t', typed({ from: 'much' }))).toBeUndefined();
  expect(madeUp('t', typed({ shape: 'points', points: '0 1, 2' }))).toBeUndefined();
  expect(madeUp('t', typed({ to: 'much' }))).toBeDefined();
});
