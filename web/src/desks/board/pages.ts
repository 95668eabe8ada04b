// The board on a wall: what does not fit is shown page by page.

/** Where a part of the board begins and ends, in pixels from its top. */
export interface Extent {
  top: number;
  foot: number;
}

/** Parts of a pixel by which something may reach over an edge. */
const EDGE = 1;

/**
 * Where each page begins, for `room` pixels at a time of `height` in all: a page begins with a whole part where that shows more,
 * and a part that is larger than the room goes on where the page before ended.
 */
export function pagesOf(parts: readonly Extent[], height: number, room: number): number[] {
  const starts = [0];
  if (room < 1) return starts;
  for (let start = 0; start + room < height - EDGE; ) {
    const end = start + room;
    const cut = parts.find((part) => part.foot > end + EDGE && part.top < end);
    const next = cut && cut.top > start + EDGE ? cut.top : end;
    starts.push(next);
    start = next;
  }
  return starts;
}

/** The page on which a part is seen. */
export function pageWith(starts: readonly number[], top: number): number {
  const after = starts.findIndex((start) => start > top + EDGE);
  return after < 0 ? starts.length - 1 : after - 1;
}
