// What stands where among registers: the rows of the map, and the next free offset of a layout.

import type { Schemas } from '../../../api/client';
import { widthOf } from './types';

type Span = Schemas['SpanView'];

/** What stands at one address. */
export interface Cell {
  at: number;
  spans: Span[];
}

export const PER_ROW = 20;

/** Rows of the map that hold something, with free stretches between them in one line each. */
export function mapRows(spans: readonly Span[]): ({ from: number; cells: Cell[] } | { free: [number, number] })[] {
  const at = new Map<number, Span[]>();
  for (const span of spans) {
    for (let i = span.start; i < span.start + span.count; i += 1) at.set(i, [...(at.get(i) ?? []), span]);
  }
  const busy = [...new Set([...at.keys()].map((a) => Math.floor(a / PER_ROW)))].sort((a, b) => a - b);
  const rows: ReturnType<typeof mapRows> = [];
  let next = 0;
  for (const row of busy) {
    if (row > next) rows.push({ free: [next * PER_ROW, row * PER_ROW - 1] });
    const from = row * PER_ROW;
    rows.push({ from, cells: Array.from({ length: PER_ROW }, (_, i) => ({ at: from + i, spans: at.get(from + i) ?? [] })) });
    next = row + 1;
  }
  return rows;
}

/** Where the member after these begins, if they lie close. */
export function nextOffset(
  rows: readonly { offset: string; type: string; length: string; count: string; stride: string }[],
): number {
  return Math.max(
    0,
    ...rows.map((row) => {
      const width = row.type === 'text' || row.type === 'bcd' ? Number(row.length) || 1 : widthOf(row.type);
      const count = Number(row.count) || 1;
      return (Number(row.offset) || 0) + (count - 1) * (Number(row.stride) || width) + width;
    }),
  );
}
