import { describe, expect, it } from 'vitest';
import { differences } from './differences';

const id = '01a22a9c-35cd-72d1-9ee9-e25ba10cd2b7';
const other = '01a22a9c-35cd-72d1-9ee9-e25ba10cd2b8';

describe('differences', () => {
  it('tells plain fields as they are', () => {
    expect(differences({ unit: 'm', note: '' }, { unit: 'cm', note: '' })).toEqual(['unit "m" → "cm"']);
    expect(differences({ unit: null }, { unit: 'cm' })).toEqual(['unit null → "cm"']);
  });

  it('goes into settings that hold others, and names them', () => {
    const level = (high: number) => ({ kind: 'measured', tag: { name: 'Level', range_high: high }, rules: {} });
    const before = { properties: { [id]: level(100), [other]: { tag: { name: 'pH' } } } };
    const after = { properties: { [id]: level(110) } };
    expect(differences(before, after)).toEqual(['Level · range_high 100 → 110', 'pH removed']);
  });

  it('cuts what is too long to be read', () => {
    const [line] = differences({ sections: [] }, { sections: ['x'.repeat(500)] });
    expect(line?.length).toBeLessThan(200);
  });
});
