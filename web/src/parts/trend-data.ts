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

/** Adds a live value; one that is not newer is passed over. */
export function extend(line: Line, atMs: number, value: number | null) {
  const last = line.xs.at(-1);
  if (last !== undefined && atMs / 1000 <= last) return;
  line.xs.push(atMs / 1000);
  line.ys.push(value);
}

/** Lines brought onto one time axis. Each line's last value is held on until `until` (ms). */
export function align(lines: readonly Line[], until: number): AlignedData {
  const tables = lines.map((line): AlignedData => {
    const last = line.xs.at(-1);
    if (last === undefined) return [[until / 1000], [null]];
    if (until / 1000 <= last) return [line.xs, line.ys];
    return [
      [...line.xs, until / 1000],
      [...line.ys, line.ys.at(-1) ?? null],
    ];
  });
  return tables.length > 0 ? uPlot.join(tables) : [[]];
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
