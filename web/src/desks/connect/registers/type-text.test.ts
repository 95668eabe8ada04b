import { expect, it } from 'vitest';
import { readType, typeText, usualType } from './type-text';

it.each([
  ['u16', { type: 'u16' }],
  ['', { type: 'u16' }],
  ['F32 cdab', { type: 'f32', order: 'CDAB' }],
  ['f64 EFGHABCD', { type: 'f64', order: 'EFGHABCD' }],
  ['text 12', { type: 'text', length: 12 }],
  ['TEXT(4)', { type: 'text', length: 4 }],
  ['text', { type: 'text', length: 8 }],
  ['text badc 4', { type: 'text', order: 'BADC', length: 4 }],
  ['bcd 2', { type: 'bcd', length: 2 }],
  ['u16 bit 3', { type: 'u16', bit: 3, bits: 1 }],
  ['u32 bits 4-7 CDAB', { type: 'u32', bit: 4, bits: 4, order: 'CDAB' }],
  ['bool bit 3', { type: 'bool', bit: 3 }],
])('understands “%s” as a whole', (text, fields) => {
  expect(readType(text)).toEqual({ fields });
  // What is written out is understood alike.
  expect(readType(typeText(fields))).toEqual({ fields });
});

it.each([
  ['f32 xyz', '“xyz” is not a byte order'],
  ['u17', '“u17” is not a type'],
  ['bool 3', 'Write “bool bit 3” for a bit.'],
  ['u16 3', 'Write “u16 bit 3” for a bit.'],
  ['f32 8', 'f32 has no length.'],
  ['f32 EFGHABCD', 'EFGHABCD is an order of 64 bits'],
  ['bool CDAB', 'A switch has no byte order.'],
  ['bool bits 3-4', 'A switch is one bit'],
  ['i16 bit 3', 'Bits are taken out of bool'],
  ['u16 bit', 'Write the number of the bit'],
  ['u16 bits 7-4', 'ends before it begins'],
  ['text 8 9', 'says something twice'],
])('refuses “%s” with words', (text, words) => expect(readType(text).wrong).toContain(words));

it.each([
  ['40001', 'u16'],
  ['coil 3', 'bool'],
  ['00017', 'bool'],
  ['100017', 'bool'],
  ['1x00017', 'bool'],
  ['120', 'u16'],
])('has a usual type for %s', (address, type) => expect(usualType(address)).toBe(type));
