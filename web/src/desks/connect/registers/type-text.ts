// The type of a register as people write it into one cell: “f32 CDAB”, “text 8”, “u16 bit 3”, “u32 bits 4-7”.

import type { Point } from '../../../api/model';
import { LONG_ORDERS, TYPES } from './types';

/** What of a point its type cell says. */
export interface TypeFields {
  type: string;
  order?: string;
  length?: number;
  bit?: number;
  bits?: number;
}

/** What a cell says, or why it cannot be understood. */
export type Understood = { fields: TypeFields; wrong?: undefined } | { fields?: undefined; wrong: string };

const WIDE = ['u64', 'i64', 'f64'];
const UNSIGNED = ['u16', 'u32', 'u64'];
/** Registers of a text whose length is not given. */
const USUAL_TEXT = 8;

/** The type that an address has where none is written: coils and discrete inputs are switches. */
export const usualType = (address: string) => (/^\s*(coil|discrete|[01]x|[01]\d{4,5}\s*$)/i.test(address) ? 'bool' : 'u16');

/** Reads a cell; nothing of it is passed over. */
export function readType(text: string, address = ''): Understood {
  const [word = '', ...rest] = text
    .trim()
    .split(/[\s()[\],]+/)
    .filter(Boolean);
  const type = (word || usualType(address)).toLowerCase();
  if (!(TYPES as readonly string[]).includes(type)) return { wrong: `“${word}” is not a type; types are ${TYPES.join(', ')}.` };
  const fields: TypeFields = { type };
  const twice = () => ({ wrong: `“${text.trim()}” says something twice.` });
  for (let i = 0; i < rest.length; i += 1) {
    const part = rest[i] ?? '';
    const order = part.toUpperCase();
    if ((LONG_ORDERS as readonly string[]).includes(order)) {
      if (fields.order) return twice();
      if (type === 'bool') return { wrong: 'A switch has no byte order.' };
      if (order.length > 4 && !WIDE.includes(type)) return { wrong: `${order} is an order of 64 bits; ${type} has fewer.` };
      fields.order = order;
    } else if (/^bits?$/i.test(part)) {
      const [, first, last] = /^(\d{1,2})(?:[-–…](\d{1,2}))?$/.exec(rest[i + 1] ?? '') ?? [];
      if (first === undefined) return { wrong: `Write the number of the bit: “${type} bit 3”.` };
      if (fields.bit !== undefined) return twice();
      const [low, high] = [Number(first), Number(last ?? first)];
      if (high < low) return { wrong: `“${rest[i + 1]}” ends before it begins.` };
      if (type !== 'bool' && !UNSIGNED.includes(type)) return { wrong: `Bits are taken out of bool, ${UNSIGNED.join(', ')}.` };
      if (type === 'bool' && high > low) return { wrong: 'A switch is one bit; write u16 for several.' };
      fields.bit = low;
      if (high > low || type !== 'bool') fields.bits = high - low + 1;
      i += 1;
    } else if (/^\d{1,4}$/.test(part) && (type === 'text' || type === 'bcd')) {
      if (fields.length !== undefined) return twice();
      fields.length = Number(part);
    } else if (/^\d+$/.test(part)) {
      return {
        wrong: type === 'bool' || UNSIGNED.includes(type) ? `Write “${type} bit ${part}” for a bit.` : `${type} has no length.`,
      };
    } else {
      return { wrong: `“${part}” is not a byte order; orders are ${LONG_ORDERS.join(', ')}.` };
    }
  }
  if (type === 'text') fields.length ??= USUAL_TEXT;
  if (type === 'bcd') fields.length ??= 1;
  return { fields };
}

/** The same written out. */
export function typeText({ type = '', order, length, bit, bits }: Partial<Point>): string {
  const last = bit === undefined || bit === null ? 0 : bit + (bits ?? 1) - 1;
  return [
    type,
    ...(order ? [order] : []),
    ...(length && (type === 'text' || type === 'bcd') ? [String(length)] : []),
    ...(bit === undefined || bit === null ? [] : [last > bit ? `bits ${bit}-${last}` : `bit ${bit}`]),
  ].join(' ');
}
