// Members of a layout while they are typed.

import { newId } from '../../../api/client';
import type { Member, Scaling } from '../../../api/model';
import { numberOf, textOf } from '../../../parts/form';

/** A member as it is typed. */
export interface Row {
  id: string;
  name: string;
  offset: string;
  /** A type, or the id of a layout within. */
  type: string;
  length: string;
  count: string;
  stride: string;
  order: string;
  bit: string;
  bits: string;
  unit: string;
  decimals: string;
  /** What one count is worth; empty where the scaling says more than that. */
  factor: string;
  scaling: Scaling | null;
  states: string | null;
  low: string;
  high: string;
}

/** The factor of a scaling that is nothing more than one. */
export function factorOf(scaling: Scaling | null): string {
  if (!scaling || scaling.clamp || scaling.curve === 'root' || scaling.raw_low !== 0 || scaling.low !== 0) return '';
  return textOf(scaling.high / scaling.raw_high);
}

/** The scaling that a factor is; none where nothing is typed or nothing would change. */
export function scalingOf(factor: string): Scaling | null {
  const number = numberOf(factor);
  return number === null || number === 1 ? null : { raw_low: 0, raw_high: 1000, low: 0, high: 1000 * number };
}

export const rowOf = (m: Member): Row => ({
  id: m.id,
  name: m.name,
  offset: textOf(m.offset),
  type: m.layout ?? m.point.type ?? 'u16',
  length: textOf(m.point.length),
  count: textOf(m.count),
  stride: textOf(m.stride || null),
  order: m.point.order ?? '',
  bit: textOf(m.point.bit),
  bits: textOf(m.point.bits),
  unit: m.unit,
  decimals: textOf(m.decimals),
  factor: factorOf(m.scaling),
  scaling: m.scaling,
  states: m.states,
  low: textOf(m.range_low),
  high: textOf(m.range_high),
});

/** A new member. */
export const fresh = (offset: number): Row => ({
  id: newId(),
  name: '',
  offset: String(offset),
  type: 'u16',
  length: '',
  count: '1',
  stride: '',
  order: '',
  bit: '',
  bits: '',
  unit: '',
  decimals: '',
  factor: '',
  scaling: null,
  states: null,
  low: '',
  high: '',
});

/** Digits behind the point where none are said: one for what is not a whole number. */
const usualDecimals = (type: string, { scaling }: Row) => {
  const step = scaling ? (scaling.high - scaling.low) / (scaling.raw_high - scaling.raw_low) : 1;
  return type === 'f32' || type === 'f64' || !Number.isInteger(step) ? 1 : 0;
};

const whole = (text: string, unless = 0) => (text.trim() === '' ? unless : (numberOf(text) as number));

/** The member that a row is; `within` says whether its type is another layout. */
export function memberOf(row: Row, within: boolean): Member {
  const typed = (['length', 'bit', 'bits'] as const).filter((f) => row[f].trim() !== '');
  const point = {
    type: row.type,
    ...(row.order ? { order: row.order } : {}),
    ...Object.fromEntries(typed.map((f) => [f, whole(row[f])])),
  };
  return {
    id: row.id,
    name: row.name.trim(),
    offset: numberOf(row.offset) as number,
    count: whole(row.count, 1),
    stride: whole(row.stride),
    layout: within ? row.type : null,
    point: within ? {} : point,
    unit: row.unit.trim(),
    decimals: whole(row.decimals, usualDecimals(row.type, row)),
    scaling: within ? null : row.scaling,
    states: within ? null : row.states,
    range_low: numberOf(row.low),
    range_high: numberOf(row.high),
  };
}
