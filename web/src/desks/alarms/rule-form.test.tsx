import { expect, test } from 'vitest';
import type { RuleSet } from '../../api/model';
import { changedOf, setOf, valuesOf } from './rule-form';

const set = (kind: RuleSet['kind'], more: Partial<RuleSet> = {}) => ({ ...(setOf(valuesOf({ kind })) as RuleSet), ...more });

test('what does not belong to a kind is not sent', () => {
  const typed = {
    ...valuesOf({ kind: 'deviation' }),
    level: '5',
    setpoint: 'at("a")',
    when: 'at("b")',
    states: [1],
    window: '9',
  };
  const sent = setOf(typed);
  expect([sent.level, sent.setpoint, sent.when, sent.states, sent.window_s]).toEqual([
    5,
    { text: 'at("a")', mixed: 'convert' },
    null,
    [],
    60,
  ]);
  expect(setOf({ ...typed, kind: 'state' })).toMatchObject({ level: null, setpoint: null, states: [1], deadband: 0 });
});

test('off keeps the priority, and a limit that follows a formula has no level of its own', () => {
  expect(setOf({ ...valuesOf({ priority: 3 }), weight: 'off' })).toMatchObject({ enabled: false });
  expect(setOf({ ...valuesOf({ priority: 3 }), weight: 'off' })).not.toHaveProperty('priority');
  const follows = { ...valuesOf({ kind: 'high', level: 80 }), follows: true, levelFormula: 'at("a")' };
  expect(setOf(follows)).toMatchObject({ level: null, level_formula: { text: 'at("a")', mixed: 'convert' } });
});

test('only what becomes different is changed, formulas by what people read', () => {
  const was = set('deviation', { level: 5, setpoint: { text: 'at("0199")', mixed: 'refuse' }, cause: 'x' });
  const formulas = { setpoint: 'at("DR-1/Setpoint")' };
  const values = valuesOf(was, formulas);
  expect(changedOf(setOf(values, was), was, formulas)).toEqual({});
  expect(changedOf(setOf({ ...values, level: '6' }, was), was, formulas)).toEqual({ level: 6 });
  const other = changedOf(setOf({ ...values, setpoint: 'at("DR-2/Setpoint")' }, was), was, formulas);
  expect(other).toEqual({ setpoint: { text: 'at("DR-2/Setpoint")', mixed: 'refuse' } });
});

test('what was stored comes back as it was', () => {
  const was = set('rate', {
    level: 2,
    side: 'below',
    window_s: 30,
    per: 'hour',
    deadband: 0.5,
    deadband_in: 'range',
    off_delay_s: 4,
  });
  expect(setOf(valuesOf(was))).toEqual(was);
});
