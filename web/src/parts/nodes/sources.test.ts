import { describe, expect, it } from 'vitest';
import { NOTHING } from './below';
import { hasWords, holdsOf } from './sources';

describe('what a node holds', () => {
  it.each([
    ['Boolean', 'switch'],
    ['Double', 'number'],
    ['UInt16', 'number'],
    ['UInteger', 'number'],
    ['String', 'text'],
    ['switch', 'switch'],
    ['number', 'number'],
    ['ByteString', 'unknown'],
    ['', 'unknown'],
  ] as const)('of the type %s', (about, holds) => expect(holdsOf({ about, readings: [] })).toBe(holds));
});

describe('words', () => {
  const found = { path: ['Dryer', 'Zone 2'], name: 'Temperature', offer: { ...NOTHING, description: 'air below the belt' } };
  it.each([
    ['temp zone', true],
    ['dryer/temperature', true],
    ['belt temperature', true],
    ['', true],
    ['zone 3', false],
    ['humidity', false],
  ])('%s', (words, hit) => expect(hasWords(found, words)).toBe(hit));
});
