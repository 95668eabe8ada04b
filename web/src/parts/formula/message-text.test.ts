import { describe, expect, it } from 'vitest';
import { chipOf, chipShown, chipsIn, ownChip, typedInChip } from './message-text';

describe('the text of a message', () => {
  it('has its chips where the brackets stand', () => {
    const text = 'Level [[value]] over [[ limit ]], [[at("A]]/b") - 1]] [no chip] [[open';
    expect(chipsIn(text).map((chip) => [chip.inside, text.slice(chip.from, chip.to)])).toEqual([
      ['value', '[[value]]'],
      ['limit', '[[ limit ]]'],
      ['at("A]]/b") - 1', '[[at("A]]/b") - 1]]'],
    ]);
  });

  it.each([
    ['value', 'value'],
    ['Extraction/EX-1/Level', 'EX-1 / Level'],
    ['at("Extraction/EX-1/Level")', 'EX-1 / Level'],
    ['at("EX-1/Level") - at("EX-1/Level setpoint")', 'EX-1 / Level - EX-1 / Level setpoint'],
    ['own("Level") * 2', 'Level * 2'],
    ['min(1, 2)', 'min(1, 2)'],
  ])('shows the chip of %s as %s', (inside, shown) => {
    expect(chipShown(inside)).toBe(shown);
  });

  it.each([
    ['Extraction/EX-1/Level', 'Extraction/EX-1', '[[Level]]'],
    ['Extraction/EX-1/Pump/Running', 'Extraction/EX-1', '[[Extraction/EX-1/Pump/Running]]'],
    ['Extraction/EX-2/Level', 'Extraction/EX-1', '[[Extraction/EX-2/Level]]'],
    ['Extraction/EX-1/value', 'Extraction/EX-1', '[[at("Extraction/EX-1/value")]]'],
    ['EX-1/Flow (in)', 'EX-1', '[[at("EX-1/Flow (in)")]]'],
  ])('names %s from %s as %s', (path, place, chip) => {
    expect(chipOf(path, place)).toBe(chip);
  });

  it('names a property so that it is read as one', () => {
    expect(['Level', 'limit', 'Level "raw"'].map(ownChip)).toEqual([
      '[[Level]]',
      '[[own("limit")]]',
      '[[own("Level \\"raw\\"")]]',
    ]);
  });

  it('offers only inside brackets that are open', () => {
    const typed = (text: string) => typedInChip(text, text.length);
    expect(typed('Level [[va')).toEqual({ from: 6, typed: 'va' });
    expect(typed('Level [[value]] an')).toBeUndefined();
    expect(typed('Level an')).toBeUndefined();
    expect(typed('[[at("EX')).toBeUndefined();
  });
});
