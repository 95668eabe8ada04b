// @vitest-environment jsdom
import { describe, expect, it, vi } from 'vitest';
import type { Item, RuleSet } from '../api/model';

vi.mock('../api/queries', () => ({ commit: vi.fn() }));
const { limitEdits } = await import('./limit-sheet');

const high: Item<'rule'> = {
  id: 'r',
  no: 0,
  revision: 1,
  title: '',
  source: '',
  holds: '',
  recorded: false,
  set: {
    tag: 't',
    class_rule: null,
    name: '',
    kind: 'high',
    level: 80,
    priority: 2,
    deadband: 1,
    on_delay_s: 0,
    off_delay_s: 0,
    acknowledge: true,
    latch: false,
    enabled: true,
    cause: '',
    action: '',
  } as RuleSet,
};
const row = (level: string, deadband = '0') => ({
  level,
  priority: 2,
  deadband,
  on: '0',
  off: '0',
  acknowledge: true,
  latch: false,
  cause: '',
  action: '',
});
const none = { high_high: row(''), high: row(''), low: row(''), low_low: row('') };

describe('limitEdits', () => {
  it('leaves alone what stands as typed', () => {
    expect(limitEdits('t', [high], { ...none, high: row('80', '1') })).toEqual([]);
  });
  it('makes, changes and deletes', () => {
    const edits = limitEdits('t', [high], { ...none, high: row('82,5', '1'), low: row('5') });
    expect(edits.map((e) => [e.kind, e.edit.op])).toEqual([
      ['high', 'patch'],
      ['low', 'create'],
    ]);
    expect(edits[0]?.edit).toMatchObject({ id: 'r', set: { level: 82.5 } });
    expect(limitEdits('t', [high], none).map((e) => e.edit)).toEqual([{ op: 'delete', kind: 'rule', id: 'r' }]);
  });
  it('switches a limit of the equipment class off, and on again, where others delete and create', () => {
    const rule = { ...high, set: { ...high.set, class_rule: 'c' } };
    expect(limitEdits('t', [rule], none).map((e) => e.edit)).toEqual([
      { op: 'patch', kind: 'rule', id: 'r', set: { enabled: false } },
    ]);
    const off = { ...rule, set: { ...rule.set, enabled: false } };
    expect(limitEdits('t', [off], { ...none, high: { ...none.high, deadband: '1' } })).toEqual([]);
    expect(limitEdits('t', [off], { ...none, high: row('80', '1') })[0]?.edit).toMatchObject({
      op: 'patch',
      set: { enabled: true },
    });
  });
  it('sends what is not a number as it was typed, to be refused at its field', () => {
    expect(limitEdits('t', [], { ...none, low: row('much') })[0]?.edit).toMatchObject({ set: { level: 'much' } });
    // A number with more digits than a number of the page keeps would arrive as another.
    const typed = '9007199254740993';
    expect(limitEdits('t', [], { ...none, low: row(typed) })[0]?.edit).toMatchObject({ set: { level: typed } });
    expect(limitEdits('t', [], { ...none, low: row('9007199254740994') })[0]?.edit).toMatchObject({
      set: { level: 9007199254740994 },
    });
  });
});
