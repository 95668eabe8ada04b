// Cells that were written in a sheet and are not saved yet.

/** One cell: what was typed, and what it showed then. */
export interface StagedCell {
  text: string;
  was: string;
}

export interface StagedRow {
  id: string;
  /** The row is to be made. */
  fresh: boolean;
  /** What a person knows it by. */
  label: string;
  cells: Readonly<Record<string, StagedCell>>;
}

/** By the row's id, in the order in which rows were first written. */
export type Staged = ReadonlyMap<string, StagedRow>;

export const NOTHING: Staged = new Map();

/** How staged cells are written down as a draft. */
export const STAGED = {
  write: (all: Staged): unknown => [...all],
  read: (draft: unknown): Staged => new Map(draft as [string, StagedRow][]),
};

/** One cell to be written. */
export interface Write {
  row: { id: string; fresh: boolean; label: string };
  key: string;
  text: string;
  /** What the server says the cell shows. */
  was: string;
}

/** What is staged after further writes. A cell that is back at what it showed is not staged any more. */
export function staged(before: Staged, writes: readonly Write[]): Staged {
  const next = new Map(before);
  for (const { row, key, text, was } of writes) {
    const old = next.get(row.id) ?? { ...row, cells: {} };
    const first = old.cells[key]?.was ?? was;
    const { [key]: _, ...rest } = old.cells;
    const cells = text === first && !row.fresh ? rest : { ...rest, [key]: { text, was: first } };
    if (Object.keys(cells).length === 0 && !row.fresh) next.delete(row.id);
    else next.set(row.id, { ...old, cells });
  }
  return next;
}

/** Without some cells, or without whole rows. */
export function without(before: Staged, id: string, key?: string): Staged {
  const row = before.get(id);
  if (!row) return before;
  const next = new Map(before);
  const { [key ?? '']: _, ...cells } = row.cells;
  if (key === undefined || Object.keys(cells).length === 0) next.delete(id);
  else next.set(id, { ...row, cells });
  return next;
}

/** The same with what a cell shows by now taken as what was seen: what was typed shall win. */
export function insisted(before: Staged, id: string, key: string, now: string): Staged {
  const row = before.get(id);
  const cell = row?.cells[key];
  if (!row || !cell) return before;
  return new Map(before).set(id, { ...row, cells: { ...row.cells, [key]: { ...cell, was: now } } });
}

export function cellCount(all: Staged): number {
  let count = 0;
  for (const row of all.values()) count += Object.keys(row.cells).length;
  return count;
}

/** Texts in which something is replaced; only where it occurs. */
export function replaced(text: string, find: string, by: string, matchCase: boolean): string | undefined {
  if (find === '') return undefined;
  const pattern = new RegExp(find.replace(/[.*+?^${}()|[\]\\]/g, '\\$&'), matchCase ? 'g' : 'gi');
  const next = text.replace(pattern, () => by);
  return next === text ? undefined : next;
}
