import { describe, expect, it } from 'vitest';
import { floorOf, heldIn, lanesOf, lifted, statesOf } from './trend-strips';

const names = new Map([
  [0, 'Stopped'],
  [1, 'Running'],
]);

it('tells what has states', () => {
  expect(statesOf(names, 'u16')).toBe(names);
  expect([...(statesOf(undefined, 'bool') ?? [])].map(([, name]) => name)).toEqual(['off', 'on']);
  expect(statesOf(undefined, 'f32')).toBeUndefined();
});

describe('lanes', () => {
  it('stand one above the other, the first uppermost', () => {
    const { lanes, taken } = lanesOf([names, undefined, names], { alone: false, earlier: false });
    expect(lanes.map((lane) => lane?.foot)).toEqual([28, undefined, 0]);
    expect(taken).toBe(56);
  });
  it('leave room for an earlier time', () => {
    const { lanes, taken } = lanesOf([names], { alone: true, earlier: true });
    expect([lanes[0]?.foot, lanes[0]?.high, taken]).toEqual([6, 40, 52]);
  });
  it('take nothing where there is none', () =>
    expect(lanesOf([undefined], { alone: true, earlier: false })).toEqual({ lanes: [undefined], taken: 0 }));
});

it('lifts quantities above the strips, and their marks with them', () => {
  const [low, high] = lifted([0, 100], 50, 250);
  expect([low, high]).toEqual([-25, 100]);
  expect(floorOf(low, high, 50, 250)).toBeCloseTo(0);
  expect(lifted([0, 100], 240, 250)).toEqual([0, 100]);
});

it('a state holds until the next value, and nothing is known in a gap', () => {
  const held = heldIn([0, 1, 2, 3, 4, 5, 6], [0, undefined, 1, 1, null, undefined, 0]);
  expect(held).toEqual([
    { from: 0, to: 2, state: 0 },
    { from: 2, to: 4, state: 1 },
  ]);
  expect(heldIn([0, 1], [1, 1])).toEqual([{ from: 0, to: 1, state: 1 }]);
  expect(heldIn([], [])).toEqual([]);
});
