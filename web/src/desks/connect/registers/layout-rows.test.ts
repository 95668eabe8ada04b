// @vitest-environment jsdom
import { describe, expect, it } from 'vitest';
import type { Member } from '../../../api/model';
import { factorOf, fresh, memberOf, rowOf, scalingOf } from './layout-rows';

const member = (more: Partial<Member>): Member => ({
  id: 'm',
  name: 'Level',
  offset: 4,
  count: 1,
  stride: 0,
  layout: null,
  point: { type: 'u16' },
  scaling: null,
  unit: '%',
  states: null,
  decimals: 1,
  range_low: null,
  range_high: null,
  ...more,
});

describe('a member of a layout', () => {
  it.each([
    ['plain', {}],
    ['an array', { count: 4, stride: 2 }],
    ['of bits', { point: { type: 'u32', bit: 3, bits: 5, order: 'CDAB' } }],
    ['a text', { point: { type: 'text', length: 8 } }],
    ['scaled by a factor', { scaling: { raw_low: 0, raw_high: 1000, low: 0, high: 100 } }],
    ['scaled between two points', { scaling: { raw_low: 4000, raw_high: 20000, low: -50, high: 150, clamp: true } }],
    ['with states and a range', { states: 's', range_low: -5, range_high: 105.5 }],
  ])('%s comes back from its form as it was', (_, more: Partial<Member>) => {
    expect(memberOf(rowOf(member(more)), false)).toEqual(member(more));
  });

  it('that is a layout itself keeps nothing of a value', () => {
    const row = { ...rowOf(member({ layout: 'inner', count: 3, stride: 20, point: {} })), states: 's' };
    expect(memberOf(row, true)).toMatchObject({ layout: 'inner', point: {}, states: null, scaling: null, count: 3, stride: 20 });
  });

  it('has a digit behind the point where nobody says and it is not a whole number', () => {
    const row = { ...fresh(0), name: 'Flow' };
    expect(memberOf(row, false).decimals).toBe(0);
    expect(memberOf({ ...row, type: 'f32' }, false).decimals).toBe(1);
    expect(memberOf({ ...row, scaling: scalingOf('0.1') }, false).decimals).toBe(1);
    expect(memberOf({ ...row, scaling: scalingOf('10') }, false).decimals).toBe(0);
  });

  it('shows a factor only where that is all there is to its scaling', () => {
    expect(factorOf(scalingOf('0,1'))).toBe('0.1');
    expect([scalingOf(''), scalingOf('1')]).toEqual([null, null]);
    expect(factorOf({ raw_low: 0, raw_high: 27648, low: 0, high: 100, clamp: true })).toBe('');
    expect(factorOf({ raw_low: 0, raw_high: 1000, low: 0, high: 100, curve: 'root' })).toBe('');
    expect(factorOf({ raw_low: 4, raw_high: 20, low: 0, high: 100 })).toBe('');
  });

  it('sends what is not a number as it was typed, to be refused at its field', () => {
    expect(memberOf({ ...fresh(0), offset: 'ten', low: 'low' }, false)).toMatchObject({ offset: 'ten', range_low: 'low' });
  });
});
