// Rows of a long list by their index: only the pages that are looked at are fetched.

import { useQueries } from '@tanstack/react-query';
import { useRef } from 'react';

/** Rows that are asked for at once. */
export const PAGE = 100;

export interface Rows<R> {
  total: number;
  rows: R[];
}

/** How many elements the rows of a list take in turn, by their index, when so many are drawn; a power of two, so that a few rows
 * more or less seldom change who stands where. */
export const slotsFor = (drawn: number) => 2 ** Math.ceil(Math.log2(Math.max(drawn, 32)));

/** Pages that hold the rows from one index to another. */
export function pagesOf(first: number, last: number): number[] {
  const [from, to] = [Math.floor(Math.max(0, first) / PAGE), Math.floor(Math.max(0, last) / PAGE)];
  return Array.from({ length: to - from + 1 }, (_, i) => from + i);
}

/** The rows from one index to another, of a list that `source` tells apart from others. */
export function useRows<R>(
  source: readonly unknown[],
  fetch: (from: number, count: number) => Promise<Rows<R>>,
  first: number,
  end: number,
): { error: unknown; counted: number | undefined; rowAt: (index: number) => R | undefined } {
  const pages = pagesOf(first, end);
  const found = useQueries({
    queries: pages.map((page) => ({
      queryKey: ['sheet', ...source, page],
      queryFn: () => fetch(page * PAGE, PAGE),
      gcTime: 60_000,
    })),
  });
  // While rows are fetched anew, what was there last stays, so that nothing flickers.
  const last = useRef(new Map<number, readonly R[]>());
  pages.forEach((page, i) => {
    const rows = found[i]?.data?.rows;
    if (rows) last.current.set(page, rows);
  });
  for (const page of last.current.keys()) if (!pages.includes(page)) last.current.delete(page);
  return {
    error: found.find((f) => f.error)?.error,
    counted: found.find((f) => f.data)?.data?.total,
    rowAt: (index) => last.current.get(Math.floor(index / PAGE))?.[index % PAGE],
  };
}
