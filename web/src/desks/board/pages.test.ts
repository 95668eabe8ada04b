import { describe, expect, it } from 'vitest';
import { pagesOf, pageWith } from './pages';

const parts = (...heights: number[]) => {
  let top = 0;
  return heights.map((height) => {
    const part = { top, foot: top + height };
    top += height;
    return part;
  });
};

describe('pages', () => {
  it('are one where all fits', () => expect(pagesOf(parts(100, 100), 200, 200)).toEqual([0]));
  it('begin with a whole part', () => expect(pagesOf(parts(100, 150, 100), 350, 200)).toEqual([0, 100, 250]));
  it('go on within a part that is larger than the screen', () =>
    expect(pagesOf(parts(50, 500), 550, 200)).toEqual([0, 50, 250, 450]));
  it('end without room', () => expect(pagesOf(parts(100), 100, 0)).toEqual([0]));
  it('show everything, whatever the sizes', () => {
    for (let room = 40; room < 400; room += 37) {
      const all = parts(60, 90, 310, 20, 140);
      const starts = pagesOf(all, 620, room);
      for (let at = 0; at < 620; at += 5) expect(starts.some((start) => start <= at && at < start + room)).toBe(true);
    }
  });
});

it('finds the page of a part', () => {
  expect([0, 99, 100, 260].map((top) => pageWith([0, 100, 250], top))).toEqual([0, 1, 1, 2]);
});
