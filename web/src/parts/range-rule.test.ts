import { expect, it } from 'vitest';
import type { RuleSet } from '../api/model';
import { beyond } from './range-rule';

const rule = (kind: RuleSet['kind'], level: number, priority: number, enabled = true) =>
  ({ kind, level, priority, enabled }) as RuleSet;

it('tells the gravest limit a value is beyond', () => {
  const rules = [rule('low', 10, 1), rule('high', 80, 2), rule('high_high', 90, 4), rule('high', 20, 3, false)];
  expect([5, 50, 80, 85, 95].map((v) => beyond(v, rules))).toEqual([1, 0, 0, 2, 4]);
});
