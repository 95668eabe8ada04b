// A message as text: what stands in double brackets is a chip, and the rest is words.

import { pathEnd } from '../text';
import { mentions, naming, owned, ownNaming } from './text';

/** What a chip can stand for besides tags and formulas, with what it says. */
export const CHIPS: Readonly<Record<string, string>> = {
  value: 'the value that was judged, with its unit',
  limit: 'the limit as it is then, with its unit',
  unit: 'the engineering unit',
  reason: 'why the value is not good',
  rule: 'what the alarm rule is known by',
  tag: 'the name of the tag',
  place: 'the place of the tag',
  equipment: 'the equipment around the tag',
};

export interface ChipIn {
  /** What stands between the brackets. */
  inside: string;
  from: number;
  to: number;
}

// As the server reads it: the first two brackets outside quotation marks close a chip.
const CHIP = /\[\[((?:[^"\]]|"(?:[^"\\]|\\.)*"|\](?!\]))*)\]\]/g;

/** Every chip of a message, in order. */
export function chipsIn(text: string): ChipIn[] {
  return [...text.matchAll(CHIP)].map((found) => ({
    inside: (found[1] ?? '').trim(),
    from: found.index,
    to: found.index + found[0].length,
  }));
}

/** What a chip shows: the word, the last name of a path, or the formula with its tags by their last names. */
export function chipShown(inside: string): string {
  const named = [...mentions(inside), ...owned(inside)].sort((a, b) => a.from - b.from);
  if (named.length === 0) return inside.includes('(') ? inside : pathEnd(inside);
  let shown = '';
  let done = 0;
  for (const { path, from, to } of named) {
    shown += inside.slice(done, from) + pathEnd(path);
    done = to;
  }
  return shown + inside.slice(done);
}

/** The chip of a tag: by its name alone where it lies in this place, else by its path. */
export function chipOf(path: string, place: string | undefined): string {
  const name = place && path.startsWith(`${place}/`) ? path.slice(place.length + 1) : path;
  const inside = name.includes('/') && name !== path ? path : name;
  return inChip(inside, naming(path));
}

/** The chip of a property of a class. */
export const ownChip = (name: string) => inChip(name, ownNaming(name));

/** A name in double brackets, or a formula where the name would be read as something else. */
const inChip = (name: string, formula: string) =>
  !/["()[\]]/.test(name) && CHIPS[name] === undefined ? `[[${name}]]` : `[[${formula}]]`;

/** What is typed in double brackets that are not closed before the cursor. */
export function typedInChip(text: string, at: number): { from: number; typed: string } | undefined {
  const before = text.slice(0, at);
  const open = before.lastIndexOf('[[');
  if (open < 0 || chipsIn(before).some((chip) => chip.to > open)) return undefined;
  const typed = before.slice(open + 2);
  return typed.includes('"') || typed.includes('(') ? undefined : { from: open, typed };
}
