import { describe, expect, it, vi } from 'vitest';

vi.stubGlobal('matchMedia', () => ({ matches: false, addEventListener: () => undefined, removeEventListener: () => undefined }));
const { heldAt, heldOn, lineOf, put, tableOf, thinned, zoomed } = await import('./trend-data');

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

const two = () =>
  tableOf([
    { xs: [1, 3], ys: [10, 11] },
    { xs: [2], ys: [null] },
  ]);

it('brings lines together without turning that into gaps, and holds the last value', () => {
  const data = heldOn(two(), 4000);
  expect(data[0]).toEqual([1, 2, 3, 4]);
  expect(data[1]).toEqual([10, undefined, 11, 11]);
  expect(data[2]?.[1]).toBeNull();
  expect([heldAt(data[1], 1), heldAt(data[2], 0)]).toEqual([10, null]);
  // One line may have gone further than the others, and than the moment that is drawn.
  expect(heldOn(two(), 2500)[2]).toEqual([undefined, null, null]);
  expect(heldOn({ xs: [], ys: [] }, 1000)).toEqual([[1]]);
});

it('keeps a gap open until the next value of its own line', () => {
  const table = tableOf([
    { xs: [1, 2, 6], ys: [10, null, 11] },
    { xs: [1, 3, 4, 7], ys: [1, 2, 3, 4] },
  ]);
  expect(heldOn(table, 8000)[1]).toEqual([10, null, null, null, 11, undefined, 11]);
  // The gap that is drawn on does not keep a value out that comes within it.
  const lost = tableOf([
    { xs: [1, 2], ys: [10, null] },
    { xs: [1, 3, 7], ys: [1, 2, 4] },
  ]);
  put(lost, 0, 5000, 12);
  expect(heldOn(lost, 8000)[1]).toEqual([10, null, null, 12, undefined, 12]);
});

it('takes live values in where they belong, and only what is newer', () => {
  const table = two();
  put(table, 0, 2500, 99);
  put(table, 1, 2500, 7);
  put(table, 0, 3500, 12);
  put(table, 1, 3500, 8);
  put(table, 1, 3500, 9);
  put(table, 5, 4000, 1);
  expect(table).toEqual({
    xs: [1, 2, 2.5, 3, 3.5],
    ys: [
      [10, undefined, undefined, 11, 12],
      [undefined, null, 7, undefined, 8],
    ],
  });
});

describe('thinned', () => {
  const wave = (count: number) => ({
    xs: Array.from({ length: count }, (_, i) => i / 100),
    ys: Array.from({ length: count }, (_, i) => (i % 89 === 0 ? null : Math.sin(i / 40) * 50 + (i % 13))),
  });
  it('keeps of each part the first, the extremes and the last', () => {
    const line = { xs: [0, 0.1, 0.2, 0.3, 0.4, 1], ys: [5, 9, 1, 4, 6, 7] };
    expect(thinned(line, 1)).toEqual({ xs: [0, 0.1, 0.2, 0.4, 1], ys: [5, 9, 1, 6, 7] });
  });
  it.each([[1], [127], [128], [2000]])('leaves the picture as it was, of %i values', (count) => {
    const line = wave(count);
    const thin = thinned(line, 1);
    expect(thin.xs.length).toBeLessThanOrEqual(Math.ceil(count / 100) * 4);
    const range = (of: typeof line, part: number) => {
      const ys = of.ys.filter((y, i) => y !== null && Math.floor(of.xs[i] ?? 0) === part);
      return [Math.min(...ys.map(Number)), Math.max(...ys.map(Number))];
    };
    for (let part = 0; part < count / 100; part += 1) expect(range(thin, part)).toEqual(range(line, part));
    expect([thin.xs[0], thin.xs.at(-1)]).toEqual([line.xs[0], line.xs.at(-1)]);
    expect(thin.xs).toEqual([...thin.xs].sort((a, b) => a - b));
  });
  it('keeps a gap', () => {
    const line = { xs: [0, 1, 2, 3], ys: [1, null, null, 2] };
    expect(thinned(line, 1).ys).toEqual([1, null, null, 2]);
  });
});

it('zooms about a point and stays within bounds', () => {
  expect(zoomed(0, 100_000, 0.25, 2)).toEqual([-25_000, 175_000]);
  expect(zoomed(0, 3000, 0.5, 0.1)).toEqual([500, 2500]);
});
