// Made-up values of a trial, as they are typed and as they are sent.

import type { Schemas } from '../../api/client';
import { numberOf } from '../../parts/form';

export type ShapeName = 'hold' | 'ramp' | 'step' | 'noise' | 'points';

export const SHAPES: Record<ShapeName, string> = {
  ramp: 'ramp',
  step: 'step',
  noise: 'noise',
  hold: 'constant',
  points: 'by hand',
};

/** Made-up values as they are typed. */
export interface Typed {
  shape: ShapeName;
  from: string;
  to: string;
  at: string;
  back: string;
  points: string;
  badFrom: string;
  badTo: string;
}

/** A number that was typed; not a number where it is none. */
export const number = (text: string) => numberOf(text) ?? Number.NaN;

/** Times and values by hand: “0 20, 30 85, 60 20”. None where a part of it is no pair of numbers. */
export function pointsOf(text: string): [number, number][] | undefined {
  const pairs = text.split(',').map((pair) => pair.trim().split(/\s+/).map(Number));
  const whole = pairs.every((pair) => pair.length === 2 && pair.every(Number.isFinite));
  return whole ? (pairs as [number, number][]) : undefined;
}

/** What is sent of made-up values; none where something that was typed is no number. */
export function madeUp(tag: string, typed: Typed): Schemas['MadeUpBody'] | undefined {
  const [from, to] = [number(typed.from), number(typed.to)];
  const shape = {
    hold: { shape: 'hold', value: from },
    ramp: { shape: 'ramp', from, to },
    step: { shape: 'step', from, to, at_s: number(typed.at), ...(typed.back.trim() ? { back_s: number(typed.back) } : {}) },
    noise: { shape: 'noise', around: from, width: to },
    points: { shape: 'points', points: pointsOf(typed.points) },
  }[typed.shape];
  const isBad = typed.badFrom.trim() !== '' || typed.badTo.trim() !== '';
  const bad = isBad ? { bad: [number(typed.badFrom), number(typed.badTo)] } : {};
  const numbers = Object.values({ ...shape, shape: 0, ...bad }).flat(2);
  return numbers.every(Number.isFinite) ? ({ tag, ...shape, ...bad } as unknown as Schemas['MadeUpBody']) : undefined;
}
