// From history's columns to what the plot draws: steps, extremes, gaps, and the live end.

import uPlot, { type AlignedData } from 'uplot';
import type { Schemas } from '../api/client';

export type PixelColumns = Schemas['PixelColumns'];

/** One tag's line: times in seconds, values, null where nothing is known. */
export interface Line {
  xs: number[];
  ys: (number | null)[];
}

/** A line from columns that start at `start` (ms). A pixel with several values is drawn as a stroke between its extremes. */
export function lineOf(columns: PixelColumns, start: number, stepMs: number): Line {
  const line: Line = { xs: [], ys: [] };
  const add = (x: number, y: number | null) => {
    line.xs.push(x / 1000);
    line.ys.push(y);
  };
  columns.offset.forEach((offset, i) => {
    const at = start + offset / 1e6;
    const [low, high, last] = [columns.minimum[i] ?? null, columns.maximum[i] ?? null, columns.last[i] ?? null];
    if (low === null || high === null || low === high) {
      add(at, last);
      return;
    }
    add(at, low);
    add(at + stepMs * 0.25, high);
    add(at + stepMs * 0.5, last);
  });
  return line;
}

/** Of a line with many more values than there are pixels, what can be seen: of each `step` seconds the first, the lowest, the
 * highest and the last. */
export function thinned(line: Line, step: number): Line {
  const thin: Line = { xs: [], ys: [] };
  const { xs, ys } = line;
  for (let from = 0; from < xs.length; ) {
    const part = Math.floor((xs[from] ?? 0) / step);
    let [to, low, high] = [from, from, from];
    while (to < xs.length && Math.floor((xs[to] ?? 0) / step) === part) {
      const y = ys[to] ?? null;
      if (y !== null && y < (ys[low] ?? Number.POSITIVE_INFINITY)) low = to;
      if (y !== null && y > (ys[high] ?? Number.NEGATIVE_INFINITY)) high = to;
      to += 1;
    }
    for (const i of new Set([from, Math.min(low, high), Math.max(low, high), to - 1])) {
      thin.xs.push(xs[i] ?? 0);
      thin.ys.push(ys[i] ?? null);
    }
    from = to;
  }
  return thin;
}

/** Lines brought onto one time axis: at each time the value of each line, or undefined where it has none just then. */
export interface Table {
  xs: number[];
  ys: (number | null | undefined)[][];
}

export function tableOf(lines: readonly Line[]): Table {
  if (lines.length === 0) return { xs: [], ys: [] };
  const [xs, ...ys] = uPlot.join(lines.map((line): AlignedData => [line.xs, line.ys]));
  return { xs: Array.from(xs), ys: ys.map((column) => Array.from(column)) };
}

/** A gap goes on until the line's next value, whatever other lines do meanwhile: the plot ends it at whatever is not null. */
function gapsOn(ys: (number | null | undefined)[]): (number | null | undefined)[] {
  if (!ys.includes(null)) return ys;
  let gap = false;
  return ys.map((y) => {
    if (y !== undefined) gap = y === null;
    return gap ? null : y;
  });
}

/** Puts a live value into a line of the table; one that is not newer than what the line has is passed over. */
export function put(table: Table, line: number, atMs: number, value: number | null) {
  const x = atMs / 1000;
  const column = table.ys[line];
  if (!column) return;
  let last = column.length - 1;
  while (last >= 0 && column[last] === undefined) last -= 1;
  if (x <= (table.xs[last] ?? Number.NEGATIVE_INFINITY)) return;
  // Other lines may have gone further already.
  let at = table.xs.length;
  while (at > last + 1 && (table.xs[at - 1] ?? 0) >= x) at -= 1;
  if (table.xs[at] !== x) {
    table.xs.splice(at, 0, x);
    for (const ys of table.ys) ys.splice(at, 0, undefined);
  }
  column[at] = value;
}

/** What is drawn: the table, with each line's last value held on until `until` (ms). */
export function heldOn(table: Table, until: number): [number[], ...(number | null | undefined)[][]] {
  const x = until / 1000;
  const beyond = x > (table.xs.at(-1) ?? Number.NEGATIVE_INFINITY);
  const all = table.ys.map(gapsOn);
  const end = (ys: (number | null | undefined)[]) => heldAt(ys, ys.length - 1);
  if (beyond) return [table.xs.concat(x), ...all.map((ys) => ys.concat(end(ys)))];
  return [table.xs, ...all.map((ys) => (ys.at(-1) === undefined ? [...ys.slice(0, -1), end(ys)] : ys))];
}

/** The value that holds at an index of aligned data: the last one at or before it. */
export function heldAt(ys: ArrayLike<number | null | undefined> | undefined, index: number): number | null {
  for (let i = index; ys && i >= 0; i -= 1) {
    const y = ys[i];
    if (y !== undefined) return y;
  }
  return null;
}

/** The window after zooming by `factor` about a point `share` (0 to 1) of the way along; between 2 s and 62 days. */
export function zoomed(from: number, to: number, share: number, factor: number): [number, number] {
  const length = Math.min(Math.max((to - from) * factor, 2000), 62 * 86_400_000);
  const pivot = from + (to - from) * share;
  return [pivot - length * share, pivot + length * (1 - share)];
}
