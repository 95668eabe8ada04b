// How a tag's value is read by people: by the name of its state, or as a number in the unit they chose to see.

import { useMemo, useSyncExternalStore } from 'react';
import type { Schemas } from '../api/client';
import type { TagSet } from '../api/model';

export type Unit = Schemas['UnitView'];
export type Names = ReadonlyMap<number, string>;

/** What of a tag's settings its value is printed with. */
export type Printing = Pick<TagSet, 'unit' | 'decimals'> & {
  states?: string | null | undefined;
  connection?: string | null | undefined;
  formula?: object | null | undefined;
};

/** What readings are made from; replaced as a whole, never changed. */
interface World {
  units: ReadonlyMap<string, Unit>;
  /** Names of states by the id of their set. */
  states: ReadonlyMap<string, Names>;
  /** The unit that somebody wants to see a quantity in. */
  wishes: Readonly<Record<string, string>>;
  /** Connections that send what changes: a good value of theirs that stays is not old. */
  changing: ReadonlySet<string>;
}

const KEY = 'havrel.units';
const listeners = new Set<() => void>();
let world: World = { units: new Map(), states: new Map(), wishes: kept(), changing: new Set() };

function kept(): Record<string, string> {
  try {
    const found: unknown = JSON.parse(localStorage.getItem(KEY) ?? '{}');
    const entries = Object.entries(found as object).filter(([, unit]) => typeof unit === 'string');
    return Object.fromEntries(entries) as Record<string, string>;
  } catch {
    // What cannot be read is forgotten: it only says how things look.
    return {};
  }
}

function change(part: Partial<World>) {
  world = { ...world, ...part };
  for (const listener of listeners) listener();
}

/** Makes the list of units known. A symbol counts before a code. */
export function learnUnits(list: readonly Unit[]) {
  const texts = (of: (unit: Unit) => string) => list.flatMap((u): [string, Unit][] => (of(u) ? [[of(u), u]] : []));
  change({ units: new Map([...texts((u) => u.common), ...texts((u) => u.ucum), ...texts((u) => u.symbol)]) });
}

/** Makes the sets of state names known. */
export function learnStates(sets: readonly { id: string; set: { states: readonly { value: number; name: string }[] } }[]) {
  change({ states: new Map(sets.map(({ id, set }) => [id, new Map(set.states.map((s) => [s.value, s.name]))])) });
}

/** Makes known which connections send what changes. */
export function learnChanging(connections: readonly string[]) {
  change({ changing: new Set(connections) });
}

/** Shows a quantity in a unit, here and from now on; without one, as each tag has it. */
export function showIn(quantity: string, unit: string | undefined) {
  const { [quantity]: _, ...others } = world.wishes;
  const wishes = unit === undefined ? others : { ...others, [quantity]: unit };
  localStorage.setItem(KEY, JSON.stringify(wishes));
  change({ wishes });
}

export interface Reading {
  /** The unit that is shown, and the tag's own. */
  unit: string;
  own: string;
  converted: boolean;
  /** What is measured, where the unit is of the list. */
  quantity: string | undefined;
  decimals: number;
  names: Names | undefined;
  /** A value of the tag in the unit that is shown, and back. */
  number: (value: number) => number;
  back: (shown: number) => number;
  /** A difference of two values in that unit. */
  difference: (value: number) => number;
  /** A value as it is printed, without its unit. */
  print: (value: unknown, moreDigits?: number) => string;
}

/** A value as a number: whole numbers beyond 2^53 come as text, so that no digit is lost on the way. */
export function numberIn(value: unknown): number | undefined {
  if (typeof value === 'number') return value;
  return typeof value === 'string' && isLarge(value) ? Number(value) : undefined;
}

/** Whether a text is a whole number that JavaScript's numbers cannot hold exactly. */
export const isLarge = (text: string) => /^-?\d{16,20}$/.test(text) && !Number.isSafeInteger(Number(text));

/** What scaling leaves of a whole number counts as that number. */
function nameOf(names: Names | undefined, value: number): string | undefined {
  const whole = Math.round(value);
  return names && Math.abs(value - whole) < 1e-6 ? names.get(whole) : undefined;
}

export function readingOf({ units, states, wishes }: World, set: Printing, own = false): Reading {
  const from = units.get(set.unit);
  const wish = from && !own ? units.get(wishes[from.quantity] ?? '') : undefined;
  const to = wish && wish.quantity === from?.quantity && wish !== from ? wish : undefined;
  const names = set.states ? states.get(set.states) : undefined;
  const scale = from && to ? from.factor / to.factor : 1;
  const shift = from && to ? (from.offset - to.offset) / to.factor : 0;
  const number = (value: number) => (to ? value * scale + shift : value);
  const decimals = to ? Math.min(9, Math.max(0, set.decimals - Math.round(Math.log10(scale)))) : set.decimals;
  return {
    unit: to?.symbol ?? set.unit,
    own: set.unit,
    converted: to !== undefined,
    quantity: from?.quantity,
    decimals,
    names,
    number,
    back: (shown) => (to ? (shown - shift) / scale : shown),
    difference: (value) => value * scale,
    print: (value, moreDigits = 0) => {
      if (typeof value === 'number') return nameOf(names, value) ?? number(value).toFixed(Math.min(9, decimals + moreDigits));
      if (typeof value === 'boolean') return names?.get(value ? 1 : 0) ?? (value ? 'on' : 'off');
      return typeof value === 'string' ? value : '–';
    },
  };
}

function follow(listener: () => void) {
  listeners.add(listener);
  return () => void listeners.delete(listener);
}

export function useWorld(): World {
  return useSyncExternalStore(follow, () => world);
}

/** How a tag's value is read; with `own` in its own unit, whatever somebody wants to see. */
export function useReading(set: Printing, own = false): Reading {
  const now = useWorld();
  const { unit, decimals, states } = set;
  return useMemo(() => readingOf(now, { unit, decimals, states }, own), [now, unit, decimals, states, own]);
}

/** Readings of several tags; the same list while nothing of them changes. */
export function useReadings(sets: readonly Printing[]): Reading[] {
  const now = useWorld();
  const key = sets.map((s) => `${s.unit}\t${s.decimals}\t${s.states ?? ''}`).join('\n');
  // biome-ignore lint/correctness/useExhaustiveDependencies: `key` stands for what of the sets a reading is made of
  return useMemo(() => sets.map((set) => readingOf(now, set)), [now, key]);
}

/** The units that a unit of the list converts into, itself among them. */
export function siblingsOf(now: World, unit: string): Unit[] {
  const quantity = now.units.get(unit)?.quantity;
  return [...new Set(now.units.values())].filter((u) => u.quantity === quantity).sort((a, b) => a.factor - b.factor);
}

/** Marks of an axis: round numbers in the unit that is shown, or the states, as values of the tag. */
export function marksOf(reading: Reading, low: number, high: number, most: number): number[] {
  if (reading.names) return [...reading.names.keys()].filter((v) => v >= low && v <= high).sort((a, b) => a - b);
  const [from, to] = [reading.number(low), reading.number(high)];
  const rough = (to - from) / Math.max(1, most);
  if (!(rough > 0) || !Number.isFinite(rough)) return [];
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = power * ([1, 2, 2.5, 5, 10].find((m) => m * power >= rough) ?? 10);
  const first = Math.ceil(from / step - 1e-9);
  const count = Math.floor(to / step + 1e-9) - first + 1;
  return Array.from({ length: Math.max(0, count) }, (_, i) => reading.back((first + i) * step));
}
