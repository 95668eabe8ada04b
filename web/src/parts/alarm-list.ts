// Which alarms a list shows, and in which order.

import { type AlarmState, isLatched, waits } from '../api/alarm-state';

/** What is known of an alarm in a list. */
export interface Listed {
  rule: string;
  priority: number;
  state: AlarmState;
  raised_at: string;
  place_path: string;
  text: string;
  title: string;
  /** Empty for none. */
  class_name: string;
}

export const STATE_CHOICES = {
  '': 'any state',
  waiting: 'to acknowledge',
  acknowledged: 'acknowledged',
  returned: 'returned',
  latched: 'latched',
} as const;

export const ORDERS = { '': 'newest first', priority: 'by priority', oldest: 'longest first' } as const;

export const AGES = { '': 'any age', minutes: 'last 10 min', hour: 'last hour', day: 'over 24 hours' } as const;
/** Seconds up to which an alarm is as new as that. */
const UP_TO: Record<string, number> = { minutes: 600, hour: 3600 };

export interface AlarmFilter {
  /** Words of the place or the text, all of which must be there. */
  words: string;
  /** Digits of the priorities shown; empty shows all. */
  priorities: string;
  state: string;
  age: string;
  /** The name of a class; [`NO_CLASS`] for alarms without one. */
  alarm_class: string;
}

/** No class has this name: names do not begin with a space. */
export const NO_CLASS = ' ';

export const isFilter = (f: AlarmFilter) => Boolean(f.words.trim() || f.priorities || f.state || f.age || f.alarm_class);

function isOfAge(alarm: Listed, age: string, now: number): boolean {
  const seconds = (now - Date.parse(alarm.raised_at)) / 1000;
  return age === 'day' ? seconds > 86_400 : seconds <= (UP_TO[age] ?? Number.POSITIVE_INFINITY);
}

function isInState(state: AlarmState, choice: string): boolean {
  if (choice === 'waiting') return waits(state);
  if (choice === 'returned') return state === 'returned_unacknowledged';
  if (choice === 'latched') return isLatched(state);
  return !waits(state);
}

/** Whether the filter lets it through. `now` is milliseconds. */
export function passes(alarm: Listed, filter: AlarmFilter, now: number): boolean {
  if (filter.priorities && !filter.priorities.includes(String(alarm.priority))) return false;
  if (filter.state && !isInState(alarm.state, filter.state)) return false;
  if (filter.alarm_class && alarm.class_name !== filter.alarm_class.trim()) return false;
  if (filter.age && !isOfAge(alarm, filter.age, now)) return false;
  const words = filter.words.toLowerCase().split(/\s+/).filter(Boolean);
  const said = `${alarm.place_path} ${alarm.title} ${alarm.text}`.toLowerCase();
  return words.every((word) => said.includes(word));
}

/** The alarms in an order of [`ORDERS`]; they come newest first. */
export function inOrder<A extends Listed>(alarms: readonly A[], order: string): A[] {
  const list = [...alarms];
  if (order === 'oldest') return list.reverse();
  if (order === 'priority') {
    return list.sort((a, b) => b.priority - a.priority || Number(waits(b.state)) - Number(waits(a.state)));
  }
  return list;
}

/** A row of a list that does not move: how the alarm stands, or how it stood before it left. */
export interface HeldRow<A> {
  alarm: A;
  gone: boolean;
}

export interface Held<A> {
  rows: HeldRow<A>[];
  /** How many have come since and wait to be shown. */
  newer: number;
}

/** The list in the order in which it was when somebody began to read it. What came since waits, what left stays in its row.
 * `now` is what would be listed now, `all` every alarm there is. */
export function held<A extends Listed>(order: readonly A[], now: readonly A[], all: readonly A[]): Held<A> {
  const present = new Map(all.map((a) => [a.rule, a]));
  const rows = order.map((alarm) => {
    const same = present.get(alarm.rule);
    return { alarm: same ?? alarm, gone: !same };
  });
  const known = new Set(order.map((a) => a.rule));
  return { rows, newer: now.filter((a) => !known.has(a.rule)).length };
}
