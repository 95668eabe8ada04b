import { describe, expect, it, vi } from 'vitest';

vi.stubGlobal('matchMedia', () => ({ matches: false, addEventListener: () => undefined, removeEventListener: () => undefined }));
const { align, extend, heldAt, lineOf, zoomed } = await import('./trend-data');

const columns = (offset: number[], minimum: (number | null)[], maximum = minimum, last = maximum) => ({
  tag: 't',
  offset: offset.map((o) => o * 1e6),
  minimum,
  maximum,
  last,
  by_hand: [],
  limits: [],
});

describe('lineOf', () => {
  it('draws a pixel between its extremes and ends with its last value', () => {
    expect(lineOf(columns([0, 10], [1, 2], [1, 9], [1, 4]), 1000, 8)).toEqual({ xs: [1, 1.01, 1.012, 1.014], ys: [1, 2, 9, 4] });
  });
  it('keeps gaps', () => {
    expect(lineOf(columns([0, 10, 20], [1, null, 3]), 0, 8).ys).toEqual([1, null, 3]);
  });
});

it('extends only with what is newer', () => {
  const line = { xs: [1], ys: [5 as number | null] };
  extend(line, 900, 6);
  extend(line, 1500, 7);
  extend(line, 1600, null);
  expect(line).toEqual({ xs: [1, 1.5, 1.6], ys: [5, 7, null] });
});

it('aligns lines without turning alignment into gaps, and holds the last value', () => {
  const data = align(
    [
      { xs: [1, 3], ys: [10, 11] },
      { xs: [2], ys: [null] },
    ],
    4000,
  );
  expect(data[0]).toEqual([1, 2, 3, 4]);
  expect(data[1]).toEqual([10, undefined, 11, 11]);
  expect(data[2]?.[1]).toBeNull();
  expect([heldAt(data[1], 1), heldAt(data[2], 0)]).toEqual([10, null]);
});

it('zooms about a point and stays within bounds', () => {
  expect(zoomed(0, 100_000, 0.25, 2)).toEqual([-25_000, 175_000]);
  expect(zoomed(0, 3000, 0.5, 0.1)).toEqual([500, 2500]);
});
