import { describe, expect, it } from 'vitest';
import type { AlarmState } from '../api/alarm-state';
import { type AlarmFilter, held, inOrder, type Listed, NO_CLASS, passes } from './alarm-list';

const NOW = Date.parse('2026-11-27T12:00:00Z');

const alarm = (rule: string, priority: number, state: AlarmState, minutes: number): Listed => ({
  rule,
  priority,
  state,
  raised_at: new Date(NOW - minutes * 60_000).toISOString(),
  place_path: 'Brackmere Kelp Works/Extraction/EX-1',
  text: 'Temperature high, 84.6 °C over 82.0',
  title: 'Temperature high',
  class_name: 'Process',
});
const filter = (over: Partial<AlarmFilter>): AlarmFilter => ({
  words: '',
  priorities: '',
  state: '',
  age: '',
  alarm_class: '',
  ...over,
});

describe('a filter of alarms', () => {
  it.each([
    ['nothing said', {}, true],
    ['words in any order', { words: 'HIGH ex-1' }, true],
    ['a word that is not there', { words: 'high EX-2' }, false],
    ['its priority', { priorities: '43' }, true],
    ['another priority', { priorities: '21' }, false],
    ['to acknowledge', { state: 'waiting' }, true],
    ['acknowledged', { state: 'acknowledged' }, false],
    ['latched', { state: 'latched' }, true],
    ['of the last ten minutes', { age: 'minutes' }, false],
    ['of the last hour', { age: 'hour' }, true],
    ['over a day', { age: 'day' }, false],
    ['of its class', { alarm_class: 'Process' }, true],
    ['of another class', { alarm_class: 'Machine' }, false],
    ['without a class', { alarm_class: NO_CLASS }, false],
  ] as [string, Partial<AlarmFilter>, boolean][])('%s', (_, over, wanted) => {
    expect(passes(alarm('a', 3, 'latched_unacknowledged', 20), filter(over), NOW)).toBe(wanted);
  });

  it('takes the title of a rule that never raised an alarm', () => {
    const shelved = { ...alarm('a', 2, 'shelved', 0), text: '' };
    expect(passes(shelved, filter({ words: 'temperature high' }), NOW)).toBe(true);
  });
});

it('orders by priority, those to acknowledge first, and otherwise as they came', () => {
  const list = [alarm('a', 2, 'acknowledged', 1), alarm('b', 4, 'acknowledged', 2), alarm('c', 2, 'unacknowledged', 3)];
  const rules = (order: string) => inOrder(list, order).map((a) => a.rule);
  expect(rules('priority')).toEqual(['b', 'c', 'a']);
  expect(rules('')).toEqual(['a', 'b', 'c']);
  expect(rules('oldest')).toEqual(['c', 'b', 'a']);
});

it('holds the rows while somebody reads: what comes waits, what leaves stays and is marked', () => {
  const [a, b, c] = [1, 2, 3].map((n) => alarm(String(n), 3, 'unacknowledged', n)) as [Listed, Listed, Listed];
  const acknowledged: Listed = { ...b, state: 'acknowledged' };
  // What was acknowledged does not pass the filter any more, and stays in its row all the same.
  const { rows, newer } = held([a, b], [c], [c, acknowledged]);
  expect(rows).toEqual([
    { alarm: a, gone: true },
    { alarm: acknowledged, gone: false },
  ]);
  expect(newer).toBe(1);
});
