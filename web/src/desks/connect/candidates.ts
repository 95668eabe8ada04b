// Found things on their way to tags: the rows of the intake, what to make of a register, a pasted list, and the edits.

import { newId, type Schemas } from '../../api/client';
import { type PlaceSet, type Point, type RuleSet, type TagSet, TYPES } from '../../api/model';
import type { Edit } from '../../api/queries';
import { fromClipboard, series } from '../../parts/series';

export type Found = Schemas['FoundView'];

/** A tag to be: one row of the intake. */
export interface Candidate {
  /** Tells rows apart. */
  key: string;
  /** What its source is made of; names are made from these. */
  parts: string[];
  /** Where it is, in words. */
  source: string;
  point: Partial<Point>;
  name: string;
  place: string;
  unit: string;
  decimals: string;
  low: string;
  high: string;
  /** What one raw count stands for; empty for 1. */
  factor: string;
  /** A polling group's id; empty for the connection's own rhythm. */
  group: string;
  record: boolean;
  /** Names for its whole numbers, where its layout says so. */
  states: string | null;
  /** Limits that raise an alarm; empty for none. */
  limit: string;
  low_limit: string;
}

/** Columns that are typed in, in the order of the sheet. */
export const TYPED = ['name', 'place', 'unit', 'decimals', 'low', 'high', 'factor', 'limit', 'low_limit'] as const;
export type Typed = (typeof TYPED)[number];

/** A row with nothing typed yet. */
export function blank(key: string, parts: string[], source: string, point: Partial<Point>): Candidate {
  const none = {
    name: '',
    place: '',
    unit: '',
    decimals: '',
    low: '',
    high: '',
    factor: '',
    group: '',
    limit: '',
    low_limit: '',
  };
  return { key, parts, source, point, ...none, record: false, states: null };
}

const reading = (found: Found | undefined, kind: string) => found?.readings.find((r) => r.kind === kind)?.text;

/** Two capitals, digits or hyphens: how ids and grades are written. */
const readsAsText = (found: Found | undefined) => /^[A-Z0-9-]{2}$/.test(reading(found, 'text') ?? '');

/**
 * The reading that makes most sense of a register, given the one behind it. A float's first half may look like two letters
 * by chance, and letters may read as a float: a float of sensible size with few digits comes first, then text where both
 * registers read as such, then any float of sensible size, then text where it alone reads as such, else 16 bits.
 */
export function likelyType(found: Found, next?: Found, order = 'ABCD'): string {
  if (reading(found, 'bool') !== undefined) return 'bool';
  const float = Math.abs(Number(found.readings.find((r) => r.kind === 'f32' && r.order === order)?.text));
  const sensible = float >= 1e-3 && float < 1e5 && Number(reading(found, 'u16')) > 8192;
  if (sensible && float === Number(float.toPrecision(5))) return 'f32';
  if (readsAsText(found) && readsAsText(next)) return 'text';
  if (sensible) return 'f32';
  return readsAsText(found) ? 'text' : 'u16';
}

/** Registers a type takes. */
export const widthOf = (type: string) =>
  ['u32', 'i32', 'f32'].includes(type) ? 2 : ['u64', 'i64', 'f64'].includes(type) ? 4 : 1;

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
    else if (!TYPES.includes(type as (typeof TYPES)[number]))
      wrong.push(`Line ${i + 1}: “${rawType}” is no type; there are ${TYPES.join(', ')}.`);
    else if (factor && !Number(factor.replace(',', '.'))) wrong.push(`Line ${i + 1}: the factor “${factor}” is no number.`);
    else {
      const sized = type === 'text' || type === 'bcd' ? { length: Number(length) || 8 } : {};
      const row = blank(`${address}-${type}`, [address, type, name], address, { address, type, ...sized });
      rows.push({ ...row, name, unit, factor: factor.replace(',', '.') });
    }
  });
  return { rows, wrong };
}

/** A path as it is compared: no spaces around its names. */
export const cleanPath = (path: string) =>
  path
    .split('/')
    .map((n) => n.trim())
    .filter(Boolean)
    .join('/');

/** A path and all above it, the uppermost first. */
export function prefixes(path: string): string[] {
  const names = cleanPath(path).split('/').filter(Boolean);
  return names.map((_, i) => names.slice(0, i + 1).join('/'));
}

/** Edits that make the places of paths that are not there yet; gives the id of every place by its path. */
export function placesOf(
  paths: readonly string[],
  known: Readonly<Record<string, string>>,
  firstOrder = 0,
): { ids: Map<string, string>; edits: Edit<'place'>[] } {
  const edits: Edit<'place'>[] = [];
  const ids = new Map(Object.entries(known));
  for (const path of new Set(paths.map(cleanPath))) {
    const all = prefixes(path);
    all.forEach((prefix, depth) => {
      if (ids.has(prefix)) return;
      const above = depth > 0 ? ids.get(all[depth - 1] ?? '') : undefined;
      const level: PlaceSet['level'] = depth === all.length - 1 ? 'unit' : depth === 0 && all.length > 2 ? 'site' : 'area';
      const id = newId();
      const set = { name: prefix.split('/').at(-1) ?? '', level, order: firstOrder + edits.length + 1 };
      edits.push({ op: 'create', kind: 'place', id, set: { ...set, ...(above ? { parent: above } : {}) } });
      ids.set(prefix, id);
    });
  }
  return { ids, edits };
}

const numeric = (text: string): number | null => {
  // Most fields of most rows are empty.
  if (text === '') return null;
  const trimmed = text.trim().replace(',', '.');
  return trimmed === '' ? null : Number(trimmed);
};

/** `cleanPath` of places of which many are alike. */
export function cleaner(): (path: string) => string {
  const known = new Map<string, string>();
  return (path) => {
    let clean = known.get(path);
    if (clean === undefined) {
      clean = cleanPath(path);
      known.set(path, clean);
    }
    return clean;
  };
}

const FIGURES = ['decimals', 'low', 'high', 'factor', 'limit', 'low_limit'] as const;

/** What is wrong with a row before it is sent; empty where nothing is. */
export function wrongWith(row: Candidate, place = cleanPath(row.place)): string {
  if (!row.name.trim()) return 'no name';
  if (!place) return 'no place';
  const bad = FIGURES.find((f) => Number.isNaN(numeric(row[f])));
  if (bad) return `“${row[bad]}” is no number`;
  return numeric(row.factor) === 0 ? 'a factor of 0 says nothing' : '';
}

/** What is done about a row whose name is taken: point the tag that is there here, or leave the row out. */
export type Fix = 'instead' | 'out';
export type Fixes = Readonly<Record<string, Fix>>;

/** What stands where tags would be: the clash of each row by its key, and which of their places there are. */
export interface Met {
  taken: ReadonlyMap<string, Schemas['ClashView']>;
  places: Readonly<Record<string, string>>;
}

/** What all rows come to together. */
export function judged(rows: readonly Candidate[], fixes: Fixes, met: Met | undefined) {
  const clean = cleaner();
  const out = (row: Candidate) => fixes[row.key] === 'out';
  const paths = rows.map((row) => `${clean(row.place)}/${row.name.trim()}`);
  const counts = new Map<string, number>();
  paths.forEach((path, i) => {
    if (!out(rows[i] as Candidate)) counts.set(path, (counts.get(path) ?? 0) + 1);
  });
  const troubles = rows.map((row, i): string => {
    if (out(row)) return '';
    const wrong = wrongWith(row, clean(row.place));
    if (wrong) return wrong;
    if ((counts.get(paths[i] ?? '') ?? 0) > 1) return 'twice in this list';
    return met?.taken.has(row.key) && fixes[row.key] !== 'instead' ? 'taken' : '';
  });
  const places = new Set([...new Set(rows.map((row) => clean(row.place)))].flatMap(prefixes));
  return {
    troubles,
    open: troubles.filter(Boolean).length,
    made: rows.filter((row) => !out(row)).length,
    pointed: rows.filter((r) => fixes[r.key] === 'instead').length,
    /** Places that are to be made. */
    fresh: [...places].filter((path) => !met?.places[path]).length,
  };
}

/** What a row becomes. */
export interface Wish {
  row: Candidate;
  place: string;
  /** Points this tag here instead of making one. */
  instead?: string;
}

/** Edits that make the tags, or point existing ones here, with their alarm limits. */
export function tagEdits(wishes: readonly Wish[], connection: string, firstOrder: number, usual: Partial<TagSet> = {}): Edit[] {
  return wishes.flatMap(({ row, place, instead }, i): Edit[] => {
    const factor = numeric(row.factor) ?? 1;
    const whole = ['u16', 'i16', 'u32', 'i32', 'u64', 'i64', 'bcd', 'bool', 'text'].includes(row.point.type ?? '');
    const percent = row.unit.trim() === '%';
    const source = { connection, point: row.point, ...(row.group ? { group: row.group } : {}) };
    if (instead) return [{ op: 'patch', kind: 'tag', id: instead, set: { ...source, group: row.group || null } }];
    const id = newId();
    const set: Partial<TagSet> = {
      ...usual,
      name: row.name.trim(),
      place,
      order: firstOrder + i,
      ...source,
      ...(row.unit.trim() ? { unit: row.unit.trim() } : {}),
      decimals: numeric(row.decimals) ?? (whole && Number.isInteger(factor) ? 0 : 1),
      ...(row.low.trim() ? { range_low: numeric(row.low) } : percent ? { range_low: 0 } : {}),
      ...(row.high.trim() ? { range_high: numeric(row.high) } : percent ? { range_high: 100 } : {}),
      ...(factor === 1 ? {} : { scaling: { raw_low: 0, raw_high: 1000, low: 0, high: 1000 * factor } }),
      ...(row.record ? { record: true } : {}),
      ...(row.states ? { states: row.states } : {}),
    };
    const limits: [RuleSet['kind'], number | null][] = [
      ['high', numeric(row.limit)],
      ['low', numeric(row.low_limit)],
    ];
    const rules = limits.flatMap(([kind, level]): Edit[] =>
      level === null ? [] : [{ op: 'create', kind: 'rule', id: newId(), set: { tag: id, kind, level } }],
    );
    return [{ op: 'create', kind: 'tag', id, set }, ...rules];
  });
}

/** Fills a column down from the first of the rows, as it is or counting. */
export function filled(rows: readonly Candidate[], column: Typed, from: number, to: number, counting: boolean): Candidate[] {
  const first = rows[from]?.[column] ?? '';
  const texts = series(first, undefined, to - from + 1, counting);
  return rows.map((row, i) => (i > from && i <= to ? { ...row, [column]: texts[i - from] ?? first } : row));
}

/** Puts a pasted piece of a spreadsheet into the rows, from a cell on to the right and down. */
export function pasted(rows: readonly Candidate[], text: string, at: number, column: Typed): Candidate[] {
  const lines = fromClipboard(text);
  const start = TYPED.indexOf(column);
  return rows.map((row, i) => {
    const cells = lines[i - at];
    if (cells === undefined) return row;
    const change = Object.fromEntries(
      cells.flatMap((cell, n) => {
        const field = TYPED[start + n];
        return field ? [[field, cell.trim()]] : [];
      }),
    );
    return { ...row, ...change };
  });
}
