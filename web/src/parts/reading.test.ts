// @vitest-environment jsdom
import { renderHook } from '@testing-library/react';
import { afterEach, beforeEach, expect, it } from 'vitest';
import { learnStates, learnUnits, marksOf, readingOf, showIn, siblingsOf, type Unit, useWorld } from './reading';

const unit = (quantity: string, symbol: string, ucum: string, factor: number, offset = 0): Unit => ({
  quantity,
  symbol,
  ucum,
  common: '',
  name: symbol,
  factor,
  offset,
});
const world = () => renderHook(() => useWorld()).result.current;

beforeEach(() => {
  learnUnits([
    unit('temperature', '°C', 'Cel', 1, 273.15),
    unit('temperature', '°F', '[degF]', 5 / 9, (459.67 * 5) / 9),
    unit('pressure', 'bar', 'bar', 1e5),
    unit('pressure', 'Pa', 'Pa', 1),
  ]);
  learnStates([
    {
      id: 'motor',
      set: {
        states: [
          { value: 0, name: 'Stopped' },
          { value: 1, name: 'Running' },
        ],
      },
    },
  ]);
});
afterEach(() => {
  showIn('temperature', undefined);
  showIn('pressure', undefined);
});

it('shows a value as it is configured until somebody wishes otherwise', () => {
  const set = { unit: '°C', decimals: 1 };
  expect(readingOf(world(), set).print(82.04)).toBe('82.0');
  showIn('temperature', '°F');
  const shown = readingOf(world(), set);
  expect([shown.print(100), shown.unit, shown.converted, shown.print(null)]).toEqual(['212.0', '°F', true, '–']);
  expect(shown.difference(10)).toBeCloseTo(18);
  expect(shown.back(212)).toBeCloseTo(100);
  expect(readingOf(world(), set, true).print(100)).toBe('100.0');
  // A code of the unit is the unit, and another quantity stays as it is.
  expect(readingOf(world(), { unit: 'Cel', decimals: 1 }).print(0)).toBe('32.0');
  expect(readingOf(world(), { unit: 'bar', decimals: 2 }).print(1.5)).toBe('1.50');
  expect(localStorage.getItem('havrel.units')).toBe('{"temperature":"°F"}');
});

it('keeps about as many digits as the value is worth', () => {
  showIn('pressure', 'Pa');
  expect(readingOf(world(), { unit: 'bar', decimals: 2 }).print(1.234)).toBe('123400');
  showIn('pressure', 'bar');
  expect(readingOf(world(), { unit: 'Pa', decimals: 0 }).print(123_456)).toBe('1.23456');
});

it.each([
  [1, 'Running'],
  [0.9999999999, 'Running'],
  [true, 'Running'],
  [false, 'Stopped'],
  [2, '2'],
  [0.5, '1'],
  ['text', 'text'],
])('reads %s by the name of its state', (value, words) => {
  expect(readingOf(world(), { unit: '', decimals: 0, states: 'motor' }).print(value)).toBe(words);
});

it('puts marks at round numbers of what is shown, or at the states', () => {
  showIn('temperature', '°F');
  const shown = readingOf(world(), { unit: '°C', decimals: 1 });
  expect(marksOf(shown, 0, 100, 5).map((v) => Math.round(shown.number(v)))).toEqual([50, 100, 150, 200]);
  expect(marksOf(readingOf(world(), { unit: '', decimals: 0, states: 'motor' }), -0.1, 0.9, 5)).toEqual([0]);
  expect(marksOf(shown, 5, 5, 5)).toEqual([]);
  expect(marksOf(shown, 0, Number.POSITIVE_INFINITY, 5)).toEqual([]);
});

it('offers only units that convert', () => {
  expect(siblingsOf(world(), '°C').map((u) => u.symbol)).toEqual(['°F', '°C']);
  expect(siblingsOf(world(), 'boxes')).toEqual([]);
});
