import { describe, expect, it } from 'vitest';
import { appliedOf, spanOf } from './loop-check';

describe('what is applied at a source', () => {
  it.each([
    ['50', 50],
    [' 12,5 ', 12.5],
    ['-0.25', -0.25],
    ['', undefined],
    ['  ', undefined],
    ['4 mA', undefined],
    ['Infinity', undefined],
  ])('%s', (text, number) => expect(appliedOf(text)).toBe(number));
});

describe('the span of what was seen', () => {
  const reading = { print: (value: unknown) => String(value), names: undefined };
  const seen = { first: 5, last: 7, lowest: 1, highest: 9, changes: 4 } as never;
  it('of numbers is from the lowest to the highest', () => expect(spanOf(seen, reading)).toBe('1 to 9'));
  it('of states is from the first to the last', () =>
    expect(spanOf(seen, { ...reading, names: new Map([[1, 'Running']]) })).toBe('5 to 7'));
  it('of text is from the first to the last', () =>
    expect(spanOf({ first: 'MV', last: 'HV', lowest: null, highest: null, changes: 1 } as never, reading)).toBe('MV to HV'));
});
