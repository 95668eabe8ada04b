// Registers on their way to tags: what to make of a register, a pasted list, and the edits that create tags.

import { newId, type Schemas } from '../../api/client';
import type { Item, PlaceSet, TagSet } from '../../api/model';
import type { Edit } from '../../api/queries';

export type Found = Schemas['FoundView'];

/** A tag to be. */
export interface Candidate {
  address: string;
  type: string;
  name: string;
  unit: string;
  /** What one raw count stands for; empty for 1. */
  factor: string;
  length: number;
}

const KNOWN_TYPES = ['bool', 'u16', 'i16', 'u32', 'i32', 'f32', 'text'];

const reading = (found: Found | undefined, kind: string) => found?.readings.find((r) => r.kind === kind)?.text;

/** Two capitals, digits or hyphens: how ids and grades are written. */
const readsAsText = (found: Found | undefined) => /^[A-Z0-9-]{2}$/.test(reading(found, 'text') ?? '');

/**
 * The reading that makes most sense of a register, given the one behind it. A float's first half may look like two letters
 * by chance, and letters may read as a float: a float of sensible size with few digits comes first, then text where both
 * registers read as such, then any float of sensible size, then text where it alone reads as such, else 16 bits.
 */
export function likelyType(found: Found, next?: Found): string {
  if (reading(found, 'bool') !== undefined) return 'bool';
  const float = Math.abs(Number(reading(found, 'f32')));
  const sensible = float >= 1e-3 && float < 1e5 && Number(reading(found, 'u16')) > 8192;
  if (sensible && float === Number(float.toPrecision(5))) return 'f32';
  if (readsAsText(found) && readsAsText(next)) return 'text';
  if (sensible) return 'f32';
  return readsAsText(found) ? 'text' : 'u16';
}

/** Registers a type takes. */
export const widthOf = (type: string) => (['u32', 'i32', 'f32'].includes(type) ? 2 : 1);

/**
 * Reads a list pasted from a spreadsheet or manual: address, type, name, engineering unit, factor, in this order, parted by
 * tabs, semicolons or commas. A line that begins with “address” is a head and passed over.
 */
export function readList(text: string): { rows: Candidate[]; wrong: string[] } {
  const rows: Candidate[] = [];
  const wrong: string[] = [];
  text.split(/\r?\n/).forEach((line, i) => {
    if (!line.trim() || /^\s*"?address/i.test(line)) return;
    const mark = ['\t', ';', ','].find((m) => line.includes(m)) ?? '\t';
    const [address = '', rawType = '', name = '', unit = '', factor = ''] = line
      .split(mark)
      .map((c) => c.trim().replace(/^"(.*)"$/, '$1'));
    const [type = '', length = '8'] = rawType.toLowerCase().split(/[ ()[\]]+/);
    if (!address || !name) wrong.push(`Line ${i + 1} has no ${address ? 'name' : 'address'}.`);
    else if (!KNOWN_TYPES.includes(type))
      wrong.push(`Line ${i + 1}: “${rawType}” is no type; there are ${KNOWN_TYPES.join(', ')}.`);
    else if (factor && !Number(factor.replace(',', '.'))) wrong.push(`Line ${i + 1}: the factor “${factor}” is no number.`);
    else rows.push({ address, type, name, unit, factor: factor.replace(',', '.'), length: Number(length) || 8 });
  });
  return { rows, wrong };
}

/** Edits that make the places of a path that are not there yet; gives the id of the last. */
export function placeEdits(path: string, places: readonly Item<'place'>[]): { place: string; edits: Edit<'place'>[] } {
  const names = path
    .split('/')
    .map((n) => n.trim())
    .filter(Boolean);
  const edits: Edit<'place'>[] = [];
  let parent: string | null = null;
  names.forEach((name, depth) => {
    const there: Item<'place'> | undefined = places.find((p) => p.set.parent === parent && p.set.name === name);
    if (there) {
      parent = there.id;
      return;
    }
    const level: PlaceSet['level'] = depth === names.length - 1 ? 'unit' : depth === 0 && names.length > 2 ? 'site' : 'area';
    const id = newId();
    const order = 1 + Math.max(0, ...places.filter((p) => p.set.parent === parent).map((p) => p.set.order));
    edits.push({ op: 'create', kind: 'place', id, set: { name, level, order, ...(parent ? { parent } : {}) } });
    parent = id;
  });
  return { place: parent ?? '', edits };
}

/** Edits that create the tags. */
export function tagEdits(rows: readonly Candidate[], place: string, connection: string, firstOrder: number): Edit<'tag'>[] {
  return rows.map((row, i) => {
    const factor = row.factor === '' ? 1 : Number(row.factor);
    const set: Partial<TagSet> = {
      name: row.name.trim(),
      place,
      connection,
      order: firstOrder + i,
      point: { address: row.address, type: row.type, ...(row.type === 'text' ? { length: row.length } : {}) },
      ...(row.unit.trim() ? { unit: row.unit.trim() } : {}),
      ...(row.unit.trim() === '%' ? { range_low: 0, range_high: 100 } : {}),
      ...(factor === 1 ? {} : { scaling: { raw_low: 0, raw_high: 1000, low: 0, high: 1000 * factor } }),
      decimals: row.type === 'f32' || !Number.isInteger(factor) ? 1 : 0,
    };
    return { op: 'create', kind: 'tag', id: newId(), set };
  });
}
