// Forms that the server describes: their values, and what is sent of them.

import type { Schemas } from '../api/client';

export type FormField = Schemas['FormField'];

/** A value as the server stores it; numbers stay text where they are none yet. */
export type Value = string | number | boolean | null | readonly Value[] | Values;
/** The values of a form by the keys of its fields. */
export interface Values {
  readonly [key: string]: Value;
}

type While = Schemas['While'];
type Tree = { [key: string]: unknown };

function holds({ field, is }: While, values: Values): boolean {
  const value = values[field] ?? '';
  if (is.length > 0) return is.includes(String(value));
  return Array.isArray(value) ? value.length > 0 : value !== '' && value !== false;
}

/** Whether a field or a choice is there at present. */
export const isShown = ({ only }: { only?: While | null }, values: Values) => !only || holds(only, values);

/** What holds in a field where nothing is said. */
export function usual(field: FormField, values: Values): Value {
  const other = field.defaults?.find((d) => holds(d.while, values));
  return ((other ? other.default : field.default) ?? null) as Value;
}

function at(set: unknown, key: string): unknown {
  let inside: unknown = set;
  for (const name of key.split('.')) inside = (inside as Tree | null | undefined)?.[name];
  return inside;
}

const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null);

/** The values of a form over what is stored, with what holds by default where nothing is. */
export function valuesOf(fields: readonly FormField[], set: unknown, outer: Values = {}): Values {
  const values: { [key: string]: Value } = {};
  // What a default depends on stands before it.
  for (const field of fields) {
    const stored = at(set, field.key);
    const value = stored === undefined || stored === null ? usual(field, { ...outer, ...values }) : (stored as Value);
    const rows = field.control === 'list' && Array.isArray(value) ? value : undefined;
    values[field.key] =
      rows && field.control === 'list' ? rows.map((row) => valuesOf(field.fields, row, { ...outer, ...values })) : value;
  }
  return values;
}

/** The values after a change: a field that held its default goes along where another default holds now. */
export function changed(fields: readonly FormField[], values: Values, key: string, value: Value, outer: Values = {}): Values {
  const next: { [key: string]: Value } = { ...values, [key]: value };
  const [before, after] = [
    { ...outer, ...values },
    { ...outer, ...next },
  ];
  for (const field of fields) {
    if (field.key === key) continue;
    const now = next[field.key] ?? null;
    if (field.control === 'list') {
      const rows = (now ?? []) as readonly Values[];
      next[field.key] = rows.map((row) => followed(field.fields, row, before, after));
    }
  }
  return { ...next, ...moved(fields, next, before, after, key) };
}

const followed = (fields: readonly FormField[], row: Values, before: Values, after: Values): Values => ({
  ...row,
  ...moved(fields, row, before, after),
});

/** Values that held a default which is another one now. */
function moved(fields: readonly FormField[], values: Values, before: Values, after: Values, key?: string): Values {
  const own = fields.filter((f) => f.key !== key && f.control !== 'list');
  const going = own.filter((f) => {
    const appears = isShown(f, after) && !isShown(f, before) && same(values[f.key], null);
    return appears || (same(values[f.key], usual(f, before)) && !same(usual(f, before), usual(f, after)));
  });
  return Object.fromEntries(going.map((f) => [f.key, usual(f, after)]));
}

/** A row of a list that nobody has written in. */
export const blankRow = (fields: readonly FormField[], values: Values) => valuesOf(fields, {}, values);

/**
 * What is sent: fields that are there, nested by their keys. What holds by default is only said where it was said before, and
 * nothing typed is nothing said; at the top it takes back what was said. With no `before` at all (null) every value is said.
 */
export function settingsOf(fields: readonly FormField[], values: Values, before: unknown = {}, outer: Values = {}): Tree {
  const set: Tree = {};
  const all = { ...outer, ...values };
  for (const field of fields) {
    if (!isShown(field, all) || field.control === 'own_certificate') continue;
    const names = field.key.split('.');
    let value: unknown = values[field.key] ?? null;
    if (field.control === 'list') {
      value = ((value ?? []) as readonly Values[]).map((row) => settingsOf(field.fields, row, null, all));
    }
    const said = at(before, field.key) !== undefined;
    const empty = value === null || (value === '' && field.control !== 'text');
    if (empty ? names.length > 1 || !said : !said && before !== null && same(value, field.default)) continue;
    let inside = set;
    for (const name of names.slice(0, -1)) {
      inside[name] ??= {};
      inside = inside[name] as Tree;
    }
    inside[names.at(-1) ?? ''] = empty ? null : value;
  }
  return set;
}

/** The values after something that was found out is taken into a field; `spare[1].url` is a field of a row of a list. */
export function taken(fields: readonly FormField[], values: Values, key: string, text: string, outer: Values = {}): Values {
  const [, list, row, inside] = /^(.+)\[(\d+)\]\.(.+)$/.exec(key) ?? [];
  const field = fields.find((f) => f.key === (list ?? key));
  if (!field) return values;
  if (field.control === 'list' && inside) {
    const rows = (values[field.key] ?? []) as readonly Values[];
    const all = { ...outer, ...values };
    const next = rows.map((r, n) => (n === Number(row) ? taken(field.fields, r, inside, text, all) : r));
    return changed(fields, values, field.key, next, outer);
  }
  const value = field.control === 'number' ? Number(text) : field.control === 'tick' ? text === 'true' : text;
  return changed(fields, values, field.key, value, outer);
}
