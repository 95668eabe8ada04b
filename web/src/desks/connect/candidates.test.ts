import { describe, expect, it } from 'vitest';
import type { Item } from '../../api/model';
import { type Found, likelyType, placeEdits, readList, tagEdits } from './candidates';

const found = (readings: Record<string, string>): Found => ({
  label: 'holding 0',
  manual: '400001',
  refused: '',
  readings: Object.entries(readings).map(([kind, text]) => ({ kind, text })),
});

describe('likelyType', () => {
  it.each([
    [{ u16: '715', f32: '6.5e-38', text: '' }, {}, 'u16'],
    [{ u16: '17060', f32: '82.2', text: 'B¤' }, {}, 'f32'],
    [{ u16: '16948', f32: '45.05', text: 'B4' }, { text: '33' }, 'f32'],
    [{ u16: '17752', f32: '3461.7932', text: 'EX' }, { text: '-1' }, 'text'],
    [{ u16: '16948', f32: '45.071234', text: 'B4' }, { text: 'G®' }, 'f32'],
    [{ u16: '19288', f32: '14167346', text: 'KX' }, { text: '-2' }, 'text'],
    [{ u16: '18518', f32: '219136', text: 'HV' }, { text: '' }, 'text'],
    [{ u16: '0', f32: '0', text: '' }, {}, 'u16'],
    [{ bool: 'true' }, {}, 'bool'],
  ])('of %j before %j is %s', (readings, next, type) => {
    expect(likelyType(found(readings as Record<string, string>), found(next as Record<string, string>))).toBe(type);
  });
});

describe('readList', () => {
  it('reads tabs, semicolons and commas, and passes over a head', () => {
    const { rows, wrong } = readList(
      'Address\tType\tName\n40001\tu16\tLevel\t%\t0,1\nholding 2;f32;Temperature;°C\n17,TEXT(4),Run\n\n',
    );
    expect(wrong).toEqual([]);
    expect(rows).toEqual([
      { address: '40001', type: 'u16', name: 'Level', unit: '%', factor: '0.1', length: 8 },
      { address: 'holding 2', type: 'f32', name: 'Temperature', unit: '°C', factor: '', length: 8 },
      { address: '17', type: 'text', name: 'Run', unit: '', factor: '', length: 4 },
    ]);
  });
  it('names the line that is wrong', () => {
    expect(readList('40001\tu17\tLevel\n40002\tu16\n40003,u16,pH,,x').wrong).toEqual([
      'Line 1: “u17” is no type; there are bool, u16, i16, u32, i32, f32, text.',
      'Line 2 has no name.',
      'Line 3: the factor “x” is no number.',
    ]);
  });
});

it('makes only the places that are missing', () => {
  const site: Item<'place'> = {
    id: 'site',
    no: 0,
    revision: 1,
    title: 'Works',
    source: '',
    set: { name: 'Works', parent: null, level: 'site', order: 0, note: '' },
  };
  const { place, edits } = placeEdits('Works / Extraction / EX-1', [site]);
  expect(edits.map((e) => e.op === 'create' && [e.set.name, e.set.level, e.set.parent])).toEqual([
    ['Extraction', 'area', 'site'],
    ['EX-1', 'unit', edits[0]?.id],
  ]);
  expect(place).toBe(edits[1]?.id);
  expect(placeEdits('Works', [site])).toEqual({ place: 'site', edits: [] });
});

it('turns a factor into a scaling', () => {
  const rows = readList('40001\tu16\tLevel\t%\t0.1').rows;
  const [edit] = tagEdits(rows, 'p', 'c', 3);
  expect(edit?.op === 'create' && edit.set).toMatchObject({
    order: 3,
    decimals: 1,
    range_high: 100,
    scaling: { raw_low: 0, raw_high: 1000, low: 0, high: 100 },
  });
});
