// The rows of a matching: what was found, what fits it, and what somebody chose.

import type { Schemas } from '../../../api/client';
import type { Found } from '../../../parts/nodes/sources';

type Fit = Schemas['MatchView'];

export interface Row {
  found: Found;
  /** What is proposed. */
  best: Fit | null;
  /** All that fit, the proposed one first. */
  fits: Fit[];
}

/** A tag, by hand or as proposed. */
export interface Target {
  id: string;
  title: string;
}

/** What somebody chose by the key of what was found; null: left out. */
export type Choices = Record<string, Target | null>;

/** Rows out of an answer: those with a proposal first, then those with something that fits, each in the order of the device. */
export function rowsOf(found: readonly Found[], matched: readonly Schemas['MatchedView'][]): Row[] {
  const rows = found.map((one, i): Row => {
    const best = matched[i]?.best ?? null;
    return { found: one, best, fits: [...(best ? [best] : []), ...(matched[i]?.rivals ?? [])] };
  });
  const rank = (row: Row) => (row.best ? 0 : row.fits.length > 0 ? 1 : 2);
  return rows.toSorted((a, b) => rank(a) - rank(b));
}

/** The tag that a row would be bound to. */
export function targetOf(row: Row, choices: Choices): Target | undefined {
  const chosen = choices[row.found.key];
  if (chosen !== undefined) return chosen ?? undefined;
  return row.best ? { id: row.best.tag, title: row.best.title } : undefined;
}

/** Everything that would be bound. */
export const bindings = (rows: readonly Row[], choices: Choices): { row: Row; target: Target }[] =>
  rows.flatMap((row) => {
    const target = targetOf(row, choices);
    return target ? [{ row, target }] : [];
  });

/** The tags that would be bound more than once. */
export function clashing(all: readonly { target: Target }[]): Set<string> {
  const seen = new Set<string>();
  const twice = new Set<string>();
  for (const { target } of all) (seen.has(target.id) ? twice : seen).add(target.id);
  return twice;
}
