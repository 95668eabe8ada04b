// The states of a set while they are typed.

import { newId } from '../../api/client';
import type { StatesSet } from '../../api/model';
import { textOf } from '../../parts/form';
import { fromClipboard } from '../../parts/series';

/** A state as it is typed. */
export interface Row {
  key: string;
  value: string;
  name: string;
}

export const fresh = (value: string, name = ''): Row => ({ key: newId(), value, name });

/** The states of a set, or what a new one begins with. */
export const rowsOf = (states: StatesSet['states'] | undefined): Row[] =>
  states?.map((s, i) => ({ key: `kept ${i}`, value: textOf(s.value), name: s.name })) ?? [
    { key: 'first', value: '0', name: '' },
    { key: 'second', value: '1', name: '' },
  ];

/** The number after the greatest there is. */
export function nextValue(rows: readonly Row[]): string {
  const numbers = rows.map((r) => Number(r.value)).filter(Number.isInteger);
  return String(numbers.length > 0 ? Math.max(...numbers) + 1 : 0);
}

/** Rows of a piece of a spreadsheet, “0⇥Stopped”, or of names alone, which are counted on. */
export function pasted(text: string, rows: readonly Row[]): Row[] {
  const lines = fromClipboard(text).filter((cells) => cells.some((c) => c.trim()));
  const all = [...rows];
  for (const [first = '', second] of lines) {
    if (second === undefined) all.push(fresh(nextValue(all), first.trim()));
    else all.push(fresh(first.trim(), second.trim()));
  }
  return all;
}
