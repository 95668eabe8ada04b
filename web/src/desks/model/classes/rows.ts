// A class as rows that people edit, and back as the settings that are sent. Fields hold text while they are typed: a number, or
// parameters in double brackets.

import { newId } from '../../../api/client';
import type { ClassSet, ParameterKind, Point, PropertyKind, PropertySet, RollUp } from '../../../api/model';
import { numberOf, textOf } from '../../../parts/form';
import { chipsIn, ownChip } from '../../../parts/formula/message-text';

export interface ParameterRow {
  id: string;
  name: string;
  kind: ParameterKind;
  /** As it is typed; of a connection its id. */
  default: string;
  note: string;
}

/** Fields of a property that are typed. */
export const TYPED = [
  'name',
  'unit',
  'decimals',
  'range_low',
  'range_high',
  'write_low',
  'write_high',
  'record_deadband',
  'note',
] as const;
type Typed = (typeof TYPED)[number];
const NUMBERS: readonly string[] = ['decimals', 'range_low', 'range_high', 'write_low', 'write_high', 'record_deadband'];

export interface RuleRow {
  id: string;
  /** Settings that have a field here are text; the others stay as they are. */
  set: Record<string, unknown>;
}

export interface PropertyRow {
  id: string;
  kind: PropertyKind;
  main: boolean;
  rollUp: RollUp;
  fields: Record<Typed, string>;
  /** Empty, the id of a connection, or a parameter in double brackets. */
  connection: string;
  point: Partial<Point>;
  formula: string;
  mixed: 'convert' | 'refuse';
  states: string;
  setpoint: string;
  record: boolean;
  rules: RuleRow[];
  /** Settings that have no field here. */
  rest: Record<string, unknown>;
}

export interface PartRow {
  id: string;
  name: string;
  class: string;
  count: string;
  /** As they are typed, by the id of the parameter. */
  parameters: Record<string, string>;
}

export const RULE_FIELDS = ['level', 'deadband', 'on_delay_s', 'off_delay_s', 'window_s', 'respond_min'] as const;
/** Fields of a rule that hold a formula. */
const RULE_FORMULAS = ['level_formula', 'setpoint', 'when', 'only_while'] as const;

/** Fields of a rule that hold words and chips. */
const RULE_MESSAGES = ['message', 'values_with'] as const;

/** States as they are typed, with commas between. */
export const statesText = (states: unknown) => (Array.isArray(states) ? states.join(', ') : String(states ?? ''));

/** The numbers of states that were typed; what is no number stays as it is and is refused at its field. */
const statesTyped = (states: unknown) => {
  const parts = statesText(states)
    .split(',')
    .map((part) => part.trim())
    .filter(Boolean);
  return parts.map((part) => (/^-?\d+$/.test(part) ? Number(part) : part));
};

const ordered = <T>(map: Record<string, T>, order: (of: T) => number, name: (of: T) => string) =>
  Object.entries(map).sort(([, a], [, b]) => order(a) - order(b) || name(a).localeCompare(name(b)));

/** What was typed into a field that takes a number or parameters. */
export const numberTyped = (text: string): unknown => (text.includes('[[') ? text.trim() : numberOf(text));

export function parameterRows(set: ClassSet['parameters']): ParameterRow[] {
  return ordered(
    set,
    (p) => p.order ?? 0,
    (p) => p.name,
  ).map(([id, p]) => ({ id, name: p.name, kind: p.kind, default: textOf(p.default as number | null), note: p.note ?? '' }));
}

export function parametersOf(rows: readonly ParameterRow[]): ClassSet['parameters'] {
  const of = (row: ParameterRow, order: number) => ({
    name: row.name.trim(),
    kind: row.kind,
    default: row.default.trim() === '' ? null : row.kind === 'number' ? numberOf(row.default) : row.default.trim(),
    note: row.note,
    order,
  });
  return Object.fromEntries(rows.map((row, order) => [row.id, of(row, order)]));
}

function propertyRow(id: string, set: PropertySet): PropertyRow {
  const { connection, point, formula, states, setpoint, record, order, ...others } = set.tag as Record<string, unknown>;
  const fields = Object.fromEntries(TYPED.map((field) => [field, textOf(others[field] as number | null)])) as Record<
    Typed,
    string
  >;
  const rest = Object.fromEntries(Object.entries(others).filter(([field]) => !(TYPED as readonly string[]).includes(field)));
  const written = formula as { text: string; mixed?: 'convert' | 'refuse' } | undefined;
  const rules = Object.entries(set.rules ?? {}).map(([rule, own]) => ({
    id: rule,
    set: { ...own, ...Object.fromEntries(RULE_FIELDS.map((field) => [field, textOf(own[field] as number | null)])) },
  }));
  return {
    id,
    kind: set.kind ?? 'measured',
    main: set.main ?? false,
    rollUp: set.roll_up ?? 'none',
    fields,
    connection: (connection as string | undefined) ?? '',
    point: (point as Partial<Point> | undefined) ?? {},
    formula: written?.text ?? '',
    mixed: written?.mixed ?? 'convert',
    states: (states as string | undefined) ?? '',
    setpoint: (setpoint as string | undefined) ?? '',
    record: record === true,
    rules,
    rest,
  };
}

export function propertyRows(set: ClassSet['properties']): PropertyRow[] {
  return ordered(
    set,
    (p) => (p.tag.order as number | undefined) ?? 0,
    (p) => (p.tag.name as string | undefined) ?? '',
  ).map(([id, property]) => propertyRow(id, property));
}

export function propertiesOf(rows: readonly PropertyRow[]): ClassSet['properties'] {
  return Object.fromEntries(rows.map((row, order) => [row.id, propertyOf(row, order)]));
}

const said = (values: Record<string, unknown>) =>
  Object.fromEntries(Object.entries(values).filter(([, value]) => value !== null && value !== ''));

function propertyOf(row: PropertyRow, order: number): PropertySet {
  const typed = TYPED.map((field) => {
    const text = row.fields[field];
    return [field, NUMBERS.includes(field) ? numberTyped(text) : field === 'name' ? text.trim() : text];
  });
  const computed = row.kind === 'computed';
  const tag = {
    ...row.rest,
    ...said(Object.fromEntries(typed)),
    ...said({ states: row.states, setpoint: row.setpoint }),
    ...(row.record ? { record: true } : {}),
    ...(!computed && row.connection ? { connection: row.connection, point: row.point } : {}),
    ...(computed && row.formula.trim() ? { formula: { text: row.formula, mixed: row.mixed } } : {}),
    order,
  };
  // A property without a name is refused at its field.
  const rules = row.rules.map(({ id, set }) => {
    const numbers = Object.fromEntries(RULE_FIELDS.map((field) => [field, numberTyped(String(set[field] ?? ''))]));
    const { states, ...rest } = set;
    const listed = set.kind === 'state' ? { states: statesTyped(states) } : {};
    return [id, said({ ...rest, ...numbers, ...listed })];
  });
  return { kind: row.kind, main: row.main, roll_up: row.rollUp, tag: { name: '', ...tag }, rules: Object.fromEntries(rules) };
}

export function partRows(set: ClassSet['parts']): PartRow[] {
  return ordered(
    set,
    (p) => p.order ?? 0,
    (p) => p.name,
  ).map(([id, part]) => ({
    id,
    name: part.name,
    class: part.class,
    count: textOf(part.count ?? 1),
    parameters: Object.fromEntries(Object.entries(part.parameters ?? {}).map(([of, value]) => [of, textOf(value as number)])),
  }));
}

/** `numeric` tells whether a parameter of a class is a number. */
export function partsOf(rows: readonly PartRow[], numeric: (of: string, parameter: string) => boolean): ClassSet['parts'] {
  const of = (row: PartRow, order: number) => ({
    name: row.name.trim(),
    class: row.class,
    count: numberOf(row.count) ?? 1,
    parameters: said(
      Object.fromEntries(
        Object.entries(row.parameters).map(([id, text]) => [id, numeric(row.class, id) ? numberTyped(text) : text.trim()]),
      ),
    ),
    order,
  });
  return Object.fromEntries(rows.map((row, order) => [row.id, of(row, order)]));
}

export const newParameter = (): ParameterRow => ({ id: newId(), name: '', kind: 'number', default: '', note: '' });

export const newProperty = (): PropertyRow =>
  propertyRow(newId(), { kind: 'measured', main: false, roll_up: 'none', tag: { name: '', record: true }, rules: {} });

export const newPart = (of: string): PartRow => ({ id: newId(), name: '', class: of, count: '1', parameters: {} });

export const newRule = (): RuleRow => ({ id: newId(), set: { kind: 'high', level: '', priority: 2 } });

/** What was typed with another name for a parameter, wherever it stands in double brackets. */
export function renamed<T>(typed: T, old: string, name: string): T {
  const word = new RegExp(
    `(^|[^\\p{L}\\p{N}_ ])(\\s*)${old.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')}(\\s*)(?=$|[^\\p{L}\\p{N}_ ])`,
    'giu',
  );
  const inside = (text: string) =>
    text.replace(/\[\[([^\]]*)\]\]/g, (_, sum: string) => `[[${sum.replace(word, `$1$2${name}$3`)}]]`);
  const walk = (value: unknown): unknown => {
    if (typeof value === 'string') return inside(value);
    if (Array.isArray(value)) return value.map(walk);
    if (typeof value !== 'object' || value === null) return value;
    return Object.fromEntries(Object.entries(value).map(([key, inner]) => [key, walk(inner)]));
  };
  return walk(typed) as T;
}

/** So many like parts are named one by one. */
const MOST_NAMED = 20;

/** What formulas can name of a part: each of its properties, behind what the part is called. */
export function partNames(part: PartRow, of: ClassSet | undefined): string[] {
  const properties = Object.values(of?.properties ?? {}).flatMap((property) => (property.tag.name as string | undefined) ?? []);
  const count = Math.min(Number(part.count) || 1, MOST_NAMED);
  const called = Array.from({ length: count }, (_, n) => part.name.trim().replace(/\[\[\s*Number\s*\]\]/i, String(n + 1)));
  return called.filter(Boolean).flatMap((name) => properties.map((property) => `${name}/${property}`));
}

/** Formulas of properties in which something of the equipment is named otherwise. */
export function ownRenamed(rows: readonly PropertyRow[], old: string, name: string): PropertyRow[] {
  const quoted = (text: string) => JSON.stringify(text);
  const renamed = (formula: string) =>
    formula.replace(/own\(\s*("(?:[^"\\]|\\.)*")\s*\)/g, (call, text: string) =>
      text === quoted(old) ? `own(${quoted(name)})` : call,
    );
  const chipRenamed = (message: string) => {
    let made = '';
    let done = 0;
    for (const { inside, from, to } of chipsIn(message)) {
      made += message.slice(done, from) + (inside === old ? ownChip(name) : `[[${renamed(inside)}]]`);
      done = to;
    }
    return made + message.slice(done);
  };
  const ruleRenamed = (set: RuleRow['set']) => {
    const formulas = RULE_FORMULAS.flatMap((field) => {
      const written = set[field] as { text: string } | null | undefined;
      return written ? [[field, { ...written, text: renamed(written.text) }]] : [];
    });
    const messages = RULE_MESSAGES.flatMap((field) => {
      const message = set[field];
      return typeof message === 'string' ? [[field, chipRenamed(message)]] : [];
    });
    return { ...set, ...Object.fromEntries(formulas), ...Object.fromEntries(messages) };
  };
  return rows.map((row) => ({
    ...row,
    formula: renamed(row.formula),
    rules: row.rules.map((rule) => ({ ...rule, set: ruleRenamed(rule.set) })),
  }));
}
