// Found things on their way to tags: the rows of the intake, a pasted list, and the edits.

import { newId, type Schemas } from '../../api/client';
import type { PlaceSet, Point, RuleSet, StatesSet, TagSet } from '../../api/model';
import type { Edit } from '../../api/queries';
import type { KindView } from '../../parts/kinds';
import { fromClipboard, series } from '../../parts/series';
import { readType, typeText } from './registers/type-text';
import { TYPES } from './registers/types';

/** A new tag: one row of the intake. */
export interface Candidate {
  /** Tells rows apart. */
  key: string;
  /** What its source is made of; names are made from these. */
  parts: string[];
  /** Where it is, in words. */
  source: string;
  /** What of its point is not written in cells. */
  point: Partial<Point>;
  /** Where it is read, as somebody wrote it. */
  address: string;
  /** Whether the address is written here; otherwise it was found. */
  written: boolean;
  /** Type, order, length and bits, as one text; empty for the usual. */
  type: string;
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
  /** The names of its states, where the device tells them. */
  stateNames?: readonly Schemas['NodeState'][] | undefined;
  /** What the device says of it. */
  note?: string | undefined;
  /** It is known by its path rather than by its address. */
  named?: boolean | undefined;
  /** Limits that raise an alarm; empty for none. */
  limit: string;
  low_limit: string;
  /** Cells that a pattern has filled; what somebody typed or pasted is never changed by one. */
  filled: Partial<Record<'name' | 'place', true>>;
  /** What is done about a name that is taken. */
  fix?: Fix | undefined;
}

/** Columns that are typed in, in the order of the sheet. */
export const TYPED = [
  'address',
  'type',
  'name',
  'place',
  'unit',
  'decimals',
  'low',
  'high',
  'factor',
  'limit',
  'low_limit',
] as const;
export type Typed = (typeof TYPED)[number];

/** How the source of a new tag is written. */
export interface Writing {
  /** It is an address among registers, with a type that says how they are read. */
  registers: boolean;
  /** Types that can be written; none where a source has no type. */
  types: readonly string[];
}

/** How sources of a kind of connection are written. */
export function writingOf(kind: KindView | undefined): Writing {
  if (kind?.can.spaces) return { registers: true, types: TYPES };
  const type = kind?.point.find((field) => field.key === 'type');
  return { registers: false, types: type?.control === 'choice' ? type.options.map((o) => o.value) : [] };
}

/** Whether a cell of a row is written in: members of a layout have their address and type from it. */
export const isWritable = (row: Candidate, column: Typed) =>
  column === 'address' ? row.written : column !== 'type' || row.point.block === undefined;

/** A row with nothing typed yet. */
export function blank(key: string, parts: string[], source: string, point: Partial<Point>): Candidate {
  const { address = '', type, order, length, bit, bits, ...rest } = point;
  const shape = Object.fromEntries(Object.entries({ type, order, length, bit, bits }).filter(([, v]) => v !== undefined));
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
  const cells = { address, written: false, type: typeText(shape), filled: {}, record: false, states: null };
  return { key, parts, source, point: rest, ...none, ...cells };
}

/** The fields of a row's point, or what is wrong with its type. */
export function pointOf(row: Candidate, { registers, types }: Writing): { point: Partial<Point>; wrong?: string } {
  if (row.point.block !== undefined) return { point: row.point };
  if (types.length === 0) return { point: row.address ? { ...row.point, address: row.address.trim() } : row.point };
  const type = row.type.trim().toLowerCase();
  if (!registers) {
    if (type && !types.includes(type)) {
      return { point: row.point, wrong: `“${row.type}” is not a type; types are ${types.filter(Boolean).join(', ')}.` };
    }
    const at = row.address ? { address: row.address.trim() } : {};
    const usual = types.includes('') ? '' : (types[0] ?? '');
    return { point: { ...row.point, ...at, ...(type || usual ? { type: type || usual } : {}) } };
  }
  const { fields, wrong } = readType(row.type, row.address);
  const point = { ...row.point, address: row.address.trim() };
  return wrong === undefined ? { point: { ...point, ...fields } } : { point, wrong };
}

/** What a column of a list is called at its head, in small letters. */
const HEADS: Readonly<Record<string, Typed>> = {
  address: 'address',
  register: 'address',
  type: 'type',
  name: 'name',
  tag: 'name',
  place: 'place',
  unit: 'unit',
  decimals: 'decimals',
  'range from': 'low',
  from: 'low',
  to: 'high',
  factor: 'factor',
  'high limit': 'limit',
  'low limit': 'low_limit',
};
const USUAL: readonly Typed[] = ['address', 'type', 'name', 'unit', 'factor'];

/**
 * Reads a list pasted from a spreadsheet or manual: address, type, name, engineering unit, factor, in this order or as its
 * head says, with tabs, semicolons or commas between. Every line becomes a row, whatever is wrong in its cells: they are
 * corrected there. Only what would find no column is told here, line by line.
 */
export function readList(text: string): { rows: Candidate[]; wrong: string[] } {
  const rows: Candidate[] = [];
  const wrong: string[] = [];
  const mark = ['\t', ';', ','].find((m) => text.includes(m)) ?? '\t';
  const lines = mark === '\t' ? fromClipboard(text) : text.split(/\r?\n/).map((line) => cellsOf(line, mark));
  let columns = USUAL;
  lines.forEach((cells, i) => {
    const trimmed = cells.map((cell) => cell.trim());
    if (trimmed.every((cell) => cell === '')) return;
    if (rows.length === 0 && /^(address|register)$/i.test(trimmed[0] ?? '')) {
      columns = trimmed.flatMap((head) => {
        const column = HEADS[head.toLowerCase()];
        if (!column) wrong.push(`Line ${i + 1}: there is no column “${head}”.`);
        return column ? [column] : [];
      });
      return;
    }
    const more = trimmed.slice(columns.length).filter(Boolean);
    if (more.length > 0) wrong.push(`Line ${i + 1}: “${more[0]}” is in no column; the columns are ${columns.join(', ')}.`);
    const values = Object.fromEntries(columns.map((column, n) => [column, trimmed[n] ?? '']));
    const address = values.address ?? '';
    const row = blank(newId(), ['', address, address, ''], address || `line ${i + 1}`, {});
    rows.push({ ...row, ...values, written: true, factor: (values.factor ?? '').replace(',', '.') });
  });
  return { rows, wrong };
}

/** The cells of a line with these marks between; quotes hold a cell that has such a mark in it. */
function cellsOf(line: string, mark: string): string[] {
  return (
    fromClipboard(line.replaceAll('\t', ' ').replaceAll(/"(?:[^"]|"")*"|[;,]/g, (part) => (part === mark ? '\t' : part)))[0] ?? []
  );
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

/** Something that keeps a row from becoming a tag, and the cell to correct. */
export interface Fault {
  column: Typed;
  words: string;
}

/** What is wrong with a row before it is sent. */
export function wrongWith(row: Candidate, writing: Writing, place = cleanPath(row.place)): Fault[] {
  const faults: Fault[] = [];
  const add = (column: Typed, words: string) => faults.push({ column, words });
  if (row.written && !row.address.trim()) add('address', 'no address');
  const { wrong } = pointOf(row, writing);
  if (wrong) add('type', wrong);
  if (!row.name.trim()) add('name', 'no name');
  if (!place) add('place', 'no place');
  for (const column of FIGURES) if (Number.isNaN(numeric(row[column]))) add(column, `“${row[column]}” is not a number`);
  if (numeric(row.factor) === 0) add('factor', 'a factor of 0 makes every value 0');
  return faults;
}

/** What is done about a row whose name is taken: change the tag that is there, or skip the row. */
export type Fix = 'instead' | 'out';

/** What stands where tags would be: the clash of each row by its key, and which of their places there are. */
export interface Met {
  taken: ReadonlyMap<string, Schemas['ClashView']>;
  places: Readonly<Record<string, string>>;
}

/** Where rows are read, or what is wrong there, by key. */
export type Read = ReadonlyMap<string, { shown: string; wrong: readonly (readonly string[])[] }>;

/** Field of a point to the cell in which it is written. */
const cellOf = (field: string): Typed => (/address|offset/.test(field) ? 'address' : 'type');

/** What several rows share: nothing is wrong with them. */
const NONE: readonly Fault[] = [];

/** What all rows come to together. */
export function judged(rows: readonly Candidate[], writing: Writing, met: Met | undefined, read?: Read) {
  const clean = cleaner();
  const out = (row: Candidate) => row.fix === 'out';
  const paths = rows.map((row) => `${clean(row.place)}/${row.name.trim()}`);
  const counts = new Map<string, number>();
  paths.forEach((path, i) => {
    if (!out(rows[i] as Candidate)) counts.set(path, (counts.get(path) ?? 0) + 1);
  });
  const faults = rows.map((row, i): readonly Fault[] => {
    if (out(row)) return NONE;
    const all = wrongWith(row, writing, clean(row.place));
    // The server knows the address best; what is missing or no type was told already.
    if (!all.some((f) => f.column === 'address' || f.column === 'type')) {
      for (const [field = '', words = ''] of read?.get(row.key)?.wrong ?? []) all.push({ column: cellOf(field), words });
    }
    if (row.name.trim() && clean(row.place)) {
      if ((counts.get(paths[i] ?? '') ?? 0) > 1) all.push({ column: 'name', words: 'twice in this list' });
      else if (met?.taken.has(row.key) && row.fix !== 'instead') all.push({ column: 'name', words: 'taken' });
    }
    return all.length > 0 ? all : NONE;
  });
  const places = new Set([...new Set(rows.filter((r) => !out(r)).map((row) => clean(row.place)))].flatMap(prefixes));
  return {
    faults,
    /** How many cells are to be corrected. */
    open: faults.reduce((sum, all) => sum + all.length, 0),
    made: rows.filter((row) => !out(row)).length,
    pointed: rows.filter((r) => r.fix === 'instead').length,
    /** Places that are to be made. */
    fresh: [...places].filter((path) => !met?.places[path]),
  };
}

/** Edits that make the sets of state names which rows need and the plant lacks; gives the rows with their sets. */
export function statesOf(
  rows: readonly Candidate[],
  known: readonly { id: string; set: Pick<StatesSet, 'name' | 'states'> }[],
): { rows: Candidate[]; edits: Edit<'states'>[] } {
  const text = (states: readonly Schemas['NodeState'][]) =>
    JSON.stringify(states.map(({ value, name }) => [value, name]).sort(([a], [b]) => Number(a) - Number(b)));
  const ids = new Map(known.map(({ id, set }) => [text(set.states), id]));
  const names = new Set(known.map(({ set }) => set.name.toLowerCase()));
  const edits: Edit<'states'>[] = [];
  const made = rows.map((row) => {
    if (row.states || !row.stateNames?.length) return row;
    const key = text(row.stateNames);
    let id = ids.get(key);
    if (!id) {
      id = newId();
      ids.set(key, id);
      let name = row.name.trim();
      for (let n = 2; names.has(name.toLowerCase()); n += 1) name = `${row.name.trim()} ${n}`;
      names.add(name.toLowerCase());
      edits.push({ op: 'create', kind: 'states', id, set: { name, states: [...row.stateNames] } });
    }
    return { ...row, states: id };
  });
  return { rows: made, edits };
}

/** What a row becomes. */
export interface Wish {
  row: Candidate;
  place: string;
  /** Points this tag here instead of making one. */
  instead?: string;
}

/** Edits that make the tags, or point existing ones here, with their alarm limits. */
export function tagEdits(
  wishes: readonly Wish[],
  connection: string,
  writing: Writing,
  firstOrder: number,
  usual: Partial<TagSet> = {},
): Edit[] {
  return wishes.flatMap(({ row, place, instead }, i): Edit[] => {
    const factor = numeric(row.factor) ?? 1;
    const { point } = pointOf(row, writing);
    const whole = ['u16', 'i16', 'u32', 'i32', 'u64', 'i64', 'bcd', 'bool', 'text'].includes(point.type ?? '');
    const percent = row.unit.trim() === '%';
    const source = { connection, point, ...(row.group ? { group: row.group } : {}) };
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
      ...(row.note ? { note: row.note } : {}),
      // A method is there to be called.
      ...(point.method ? { writable: true } : {}),
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

/** A cell of a row as somebody wrote it: no pattern touches it any more. */
export function written(row: Candidate, change: Partial<Candidate>): Candidate {
  const { name, place, ...rest } = row.filled;
  const filled = {
    ...rest,
    ...(name && change.name === undefined ? { name } : {}),
    ...(place && change.place === undefined ? { place } : {}),
  };
  return { ...row, ...change, filled };
}

/** Fills a column down from the first of the rows, as it is or counting. */
export function filled(rows: readonly Candidate[], column: Typed, from: number, to: number, counting: boolean): Candidate[] {
  const first = rows[from]?.[column] ?? '';
  const texts = series(first, undefined, to - from + 1, counting);
  return rows.map((row, i) =>
    i > from && i <= to && isWritable(row, column) ? written(row, { [column]: texts[i - from] ?? first }) : row,
  );
}

/** Puts a pasted piece of a spreadsheet into the rows, from a cell on to the right and down, in the order of the columns. */
export function pasted(
  rows: readonly Candidate[],
  text: string,
  at: number,
  column: Typed,
  columns: readonly Typed[] = TYPED,
): Candidate[] {
  const lines = fromClipboard(text);
  const start = columns.indexOf(column);
  return rows.map((row, i) => {
    const cells = lines[i - at];
    if (cells === undefined) return row;
    const change = Object.fromEntries(
      cells.flatMap((cell, n) => {
        const field = columns[start + n];
        return field && isWritable(row, field) ? [[field, cell.trim()]] : [];
      }),
    );
    return written(row, change);
  });
}

/** What a pasted piece holds that finds no cell: it would be lost. */
export function beyond(rows: readonly Candidate[], text: string, at: number, column: Typed, columns: readonly Typed[]): string {
  const lines = fromClipboard(text);
  const wide = Math.max(...lines.map((line) => line.length)) - (columns.length - columns.indexOf(column));
  const long = lines.length - (rows.length - at);
  if (wide > 0) return `${wide} ${wide === 1 ? 'column' : 'columns'} more than there are here`;
  return long > 0 ? `${long} ${long === 1 ? 'row' : 'rows'} more than there are here` : '';
}

/** Names or places that a pattern would fill in: never over what somebody typed or pasted. */
export interface Proposal {
  column: 'name' | 'place';
  /** The pattern in words. */
  words: string;
  /** What each row would be called, by its key; only rows that would change. */
  texts: ReadonlyMap<string, string>;
  /** How many of them are empty now. */
  empty: number;
}

/** What is left of names that a pattern makes, once what people wrote is passed over. */
export function proposed(
  rows: readonly Candidate[],
  column: 'name' | 'place',
  words: string,
  names: readonly (string | null)[],
): Proposal | null {
  const texts = new Map<string, string>();
  let empty = 0;
  rows.forEach((row, i) => {
    const name = names[i];
    const free = row[column].trim() === '';
    if (name && name !== row[column] && (free || row.filled[column])) {
      texts.set(row.key, name);
      if (free) empty += 1;
    }
  });
  return texts.size > 0 ? { column, words, texts, empty } : null;
}

/** Whether a pattern may fill any other row than this one. */
export const mayFill = (rows: readonly Candidate[], column: 'name' | 'place', key: string) =>
  rows.some((row) => row.key !== key && (row[column].trim() === '' || row.filled[column]));

/** The rows with what a pattern makes. */
export function withProposal(rows: readonly Candidate[], { column, texts }: Proposal): Candidate[] {
  return rows.map((row) => {
    const text = texts.get(row.key);
    return text === undefined ? row : { ...row, [column]: text, filled: { ...row.filled, [column]: true } };
  });
}
