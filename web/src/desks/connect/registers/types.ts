// What registers can hold, and what they most likely do.

import type { Schemas } from '../../../api/client';

/** A register as the device gave it. */
export type Found = Schemas['NodeView'];

/** How a reading reads registers. */
export const readAs = (reading: Schemas['Reading']) => reading.point as { type?: string; order?: string };

/** How the bytes of a value stand in its registers. */
export const ORDERS: readonly string[] = ['ABCD', 'CDAB', 'BADC', 'DCBA'];
/** With those in which halves and registers of 64 bits are not turned alike. */
export const LONG_ORDERS: readonly string[] = [...ORDERS, 'EFGHABCD', 'CDABGHEF', 'FEHGBADC', 'DCBAHGFE'];

/** How values of up to 32 bits stand where those of 64 bits stand in an order. */
export const halfOrder = (order: string) => ORDERS[LONG_ORDERS.indexOf(order) - ORDERS.length] ?? order;

/** The orders that values of a type can stand in; one that was chosen already stays among them. */
export const ordersOf = (type: string, chosen = '') => (type.endsWith('64') || chosen.length > 4 ? LONG_ORDERS : ORDERS);

/** Everything a register may hold. */
export const TYPES = ['u16', 'i16', 'u32', 'i32', 'u64', 'i64', 'f32', 'f64', 'bcd', 'bool', 'text'] as const;

const reading = (found: Found | undefined, kind: string) => found?.readings.find((r) => readAs(r).type === kind)?.text;

/** Two capitals, digits or hyphens: how ids and grades are written. */
const readsAsText = (found: Found | undefined) => /^[A-Z0-9-]{2}$/.test(reading(found, 'text') ?? '');

/**
 * The reading that makes most sense of a register, given the one behind it. A float's first half may look like two letters
 * by chance, and letters may read as a float: a float of sensible size with few digits comes first, then text where both
 * registers read as such, then any float of sensible size, then text where it alone reads as such, else 16 bits.
 */
export function likelyType(found: Found, next?: Found, order = 'ABCD'): string {
  if (reading(found, 'bool') !== undefined) return 'bool';
  const float = Math.abs(Number(found.readings.find((r) => readAs(r).type === 'f32' && readAs(r).order === order)?.text));
  const sensible = float >= 1e-3 && float < 1e5 && Number(reading(found, 'u16')) > 8192;
  if (sensible && float === Number(float.toPrecision(5))) return 'f32';
  if (readsAsText(found) && readsAsText(next)) return 'text';
  if (sensible) return 'f32';
  return readsAsText(found) ? 'text' : 'u16';
}

/** Registers a type takes. */
export const widthOf = (type: string) =>
  ['u32', 'i32', 'f32'].includes(type) ? 2 : ['u64', 'i64', 'f64'].includes(type) ? 4 : 1;
