// What registers are shown as, side by side, so that a device nobody has a manual for can be read by watching it.

import { type Found, halfOrder, LONG_ORDERS, ORDERS, readAs } from './types';

export interface Column {
  title: string;
  left?: boolean;
  /** In rem; otherwise the columns share what is left. */
  width?: number | undefined;
  show: (found: Found) => string | undefined;
  /** The type of a tag that reads the register like this. */
  type: string;
}

/** Twenty digits, which must not be cut off. */
const LONG = 12.5;
/** Seven digits with an exponent. */
const FLOAT = 8.8;
/** Five digits and a sign. */
const SHORT = 5;

function widthIn(kind: string): number | undefined {
  if (kind.endsWith('64')) return LONG;
  if (kind.endsWith('16')) return SHORT;
  return kind === 'f32' ? FLOAT : undefined;
}

function as(kind: string, order: string, title = kind, left = false): Column {
  const wanted = kind.endsWith('64') ? order : halfOrder(order);
  const turned = kind === 'text' && order === 'BADC';
  return {
    title,
    left,
    type:
      kind === 'text'
        ? `text 8${turned ? ' BADC' : ''}`
        : wanted === 'ABCD' || ['u16', 'i16'].includes(kind)
          ? kind
          : `${kind} ${wanted}`,
    width: widthIn(kind),
    show: ({ readings }) => {
      const alike = readings.filter((r) => readAs(r).type === kind);
      return short(kind, (alike.find((r) => readAs(r).order === wanted) ?? alike[0])?.text);
    },
  };
}
const word = (found: Found) => Number(found.readings.find((r) => readAs(r).type === 'u16')?.text ?? 0);
export const BITS: Column = {
  title: 'bits 15 … 0',
  type: 'bool bit 0',
  left: true,
  width: 12,
  show: (f) =>
    word(f)
      .toString(2)
      .padStart(16, '0')
      .replace(/(.{4})(?=.)/g, '$1 '),
};
const HEX: Column = { title: 'hex', type: 'u16', show: (f) => word(f).toString(16).padStart(4, '0') };

/** What registers are shown as; `order` is the connection's own. */
export const VIEWS: [string, (order: string) => Column[]][] = [
  ['the usual', (o) => [as('u16', 'ABCD'), as('i16', 'ABCD'), as('u32', o), as('f32', o), as('text', 'ABCD', 'text', true)]],
  ['floats in every order', () => [as('u16', 'ABCD'), ...ORDERS.map((o) => as('f32', o, `f32 ${o}`))]],
  ['integers in every order', () => [...ORDERS.map((o) => as('i32', o, `i32 ${o}`)), as('bcd', 'ABCD')]],
  ['64 bits', (o) => [as('u64', o), as('i64', o), as('f64', o)]],
  ['f64 in every order', () => LONG_ORDERS.map((o) => as('f64', o, o))],
  ['i64 in every order', () => LONG_ORDERS.map((o) => as('i64', o, o))],
  ['bits and text', () => [HEX, BITS, as('text', 'ABCD', 'text', true), as('text', 'BADC', 'text, bytes swapped', true)]],
];
export const SWITCH: Column[] = [as('bool', 'ABCD', 'is')];

/** A reading of a kind as it is shown: floats with as many digits as they can have, texts only where they are legible. */
function short(kind: string, text: string | undefined): string {
  if (text === undefined) return '';
  if (kind === 'text') return /^[\x20-\x7e]*$/.test(text) ? text : '';
  const number = Number(text);
  if (!kind.startsWith('f') || Number.isNaN(number)) return text;
  // As many digits as the type can have; with an exponent where it would not fit its column.
  const [digits, room] = kind === 'f64' ? [15, 18] : [7, 12];
  const rounded = Number(number.toPrecision(digits));
  const plain = String(rounded);
  return plain.length > room ? rounded.toExponential() : plain;
}
