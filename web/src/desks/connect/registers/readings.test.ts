import { describe, expect, it } from 'vitest';
import { NOTHING } from '../../../parts/nodes/below';
import { VIEWS } from './readings';
import { type Found, halfOrder, LONG_ORDERS, likelyType, ordersOf } from './types';

/** A register with these readings: type, order and text. */
const found = (readings: readonly (readonly [string, string, string])[]): Found => ({
  ...NOTHING,
  id: 'holding/0',
  name: 'holding 0',
  parts: ['holding', '0', '400001', ''],
  readings: readings.map(([type, order, text]) => ({ point: { type, order } as never, text })),
});

describe('likelyType', () => {
  const of = (readings: object) => found(Object.entries(readings).map(([type, text]) => [type, 'ABCD', text]));
  it.each([
    [{ u16: '715', f32: '6.5e-38', text: '' }, {}, 'u16'],
    [{ u16: '17060', f32: '82.2', text: 'B¤' }, {}, 'f32'],
    [{ u16: '16948', f32: '45.05', text: 'B4' }, { text: '33' }, 'f32'],
    [{ u16: '17752', f32: '3461.7932', text: 'EX' }, { text: '-1' }, 'text'],
    [{ u16: '16948', f32: '45.071234', text: 'B4' }, { text: 'G®' }, 'f32'],
    [{ u16: '19288', f32: '14167346', text: 'KX' }, { text: '-2' }, 'text'],
    [{ u16: '18518', f32: '219136', text: 'HV' }, { text: '' }, 'text'],
    [{ u16: '0', f32: '0', text: '' }, {}, 'u16'],
    [{ bool: 'true' }, {}, 'bool'],
  ])('of %j before %j is %s', (readings, next, type) => {
    expect(likelyType(of(readings), of(next))).toBe(type);
  });
});

/** What a view shows of a register, by the heads of its columns. */
function shown(view: string, readings: [string, string, string][], order = 'ABCD') {
  const columns = VIEWS.find(([name]) => name === view)?.[1](order) ?? [];
  return Object.fromEntries(columns.map((c) => [c.title, c.show(found(readings))]));
}

describe('registers are shown', () => {
  it.each([
    ['740', '02e4', '0000 0010 1110 0100'],
    ['65535', 'ffff', '1111 1111 1111 1111'],
    ['0', '0000', '0000 0000 0000 0000'],
  ])('%s as its hexadecimal digits and bits, whatever these look like', (word, hex, bits) => {
    expect(shown('bits and text', [['u16', 'ABCD', word]])).toMatchObject({ hex, 'bits 15 … 0': bits });
  });

  it('a float of 64 bits with all its digits', () => {
    const view = shown('64 bits', [['f64', 'ABCD', '1000000000.5']]);
    expect(view.f64).toBe('1000000000.5');
  });

  it.each([
    ['12.100000381469727', '12.1'],
    ['-0.0005372286', '-5.372286e-4'],
    ['152371.3125', '152371.3'],
    ['1e+38', '1e+38'],
    ['0', '0'],
    ['1000000000.5', '1000000000'],
  ])('float %s with the digits it can have', (text, as) => {
    expect(shown('floats in every order', [['f32', 'CDAB', text]])['f32 CDAB']).toBe(as);
  });

  it('texts as they are, also those that look like numbers, and nothing where they are not legible', () => {
    const text = (said: string) => shown('the usual', [['text', 'ABCD', said]]).text;
    expect([text('1e5'), text('KX-2'), text('\u00c3')]).toEqual(['1e5', 'KX-2', '']);
  });

  it('64-bit integers with room for every digit', () => {
    const [least] = VIEWS.find(([name]) => name === 'i64 in every order')?.[1]('ABCD') ?? [];
    expect(least?.show(found([['i64', 'ABCD', '-9223372036854775808']]))).toBe('-9223372036854775808');
    // In rem of 16 pixels, with 9 pixels a digit and 8 on both sides.
    expect((least?.width ?? 0) * 16).toBeGreaterThanOrEqual('-9223372036854775808'.length * 9 + 16);
  });

  it('shorter values in the order of their half where 64 bits are turned otherwise', () => {
    const both: [string, string, string][] = [
      ['f32', 'ABCD', '1'],
      ['f32', 'CDAB', '2'],
      ['f64', 'CDABGHEF', '3'],
      ['f64', 'CDAB', '4'],
    ];
    expect(shown('the usual', both, 'CDABGHEF').f32).toBe('2');
    expect(shown('64 bits', both, 'CDABGHEF').f64).toBe('3');
    expect(LONG_ORDERS.map(halfOrder)).toEqual(['ABCD', 'CDAB', 'BADC', 'DCBA', 'ABCD', 'CDAB', 'BADC', 'DCBA']);
  });
});

it('orders of eight letters are offered to values of 64 bits, and stay where one was chosen', () => {
  expect([ordersOf('f32').length, ordersOf('i64').length, ordersOf('f32', 'EFGHABCD').length]).toEqual([4, 8, 8]);
});
