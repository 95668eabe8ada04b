import { describe, expect, it } from 'vitest';
import {
  blank,
  type Candidate,
  type Found,
  filled,
  judged,
  likelyType,
  pasted,
  placesOf,
  readList,
  tagEdits,
  wrongWith,
} from './candidates';

const found = (readings: Record<string, string>): Found => ({
  label: 'holding 0',
  manual: '400001',
  refused: '',
  readings: Object.entries(readings).map(([kind, text]) => ({ kind, order: 'ABCD', text })),
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
    expect(rows.map((r) => [r.point, r.name, r.unit, r.factor])).toEqual([
      [{ address: '40001', type: 'u16' }, 'Level', '%', '0.1'],
      [{ address: 'holding 2', type: 'f32' }, 'Temperature', '°C', ''],
      [{ address: '17', type: 'text', length: 4 }, 'Run', '', ''],
    ]);
  });
  it('names the line that is wrong', () => {
    expect(readList('40001\tu17\tLevel\n40002\tu16\n40003,u16,pH,,x').wrong).toEqual([
      'Line 1: “u17” is no type; there are u16, i16, u32, i32, u64, i64, f32, f64, bcd, bool, text.',
      'Line 2 has no name.',
      'Line 3: the factor “x” is no number.',
    ]);
  });
});

it('makes only the places that are missing, each once', () => {
  const { ids, edits } = placesOf(['Works / Extraction / EX-1', 'Works/Extraction/EX-2'], { Works: 'site' });
  expect(edits.map((e) => e.op === 'create' && [e.set.name, e.set.level, e.set.parent])).toEqual([
    ['Extraction', 'area', 'site'],
    ['EX-1', 'unit', edits[0]?.id],
    ['EX-2', 'unit', edits[0]?.id],
  ]);
  expect(ids.get('Works/Extraction/EX-2')).toBe(edits[2]?.id);
  expect(placesOf(['Works'], { Works: 'site' }).edits).toEqual([]);
});

const row = (change: Partial<Candidate>): Candidate => ({
  ...blank('k', [], '', { address: '40001', type: 'u16' }),
  name: 'Level',
  place: 'EX-1',
  ...change,
});

describe('tagEdits', () => {
  it('turns a factor into a scaling and a limit into a rule', () => {
    const [tag, rule, low] = tagEdits(
      [{ row: row({ unit: '%', factor: '0,1', limit: '85', low_limit: '5', record: true, states: 's' }), place: 'p' }],
      'c',
      3,
    );
    expect(tag?.op === 'create' && tag.set).toMatchObject({
      order: 3,
      decimals: 1,
      range_low: 0,
      range_high: 100,
      record: true,
      states: 's',
      scaling: { raw_low: 0, raw_high: 1000, low: 0, high: 100 },
    });
    expect(rule?.op === 'create' && rule.set).toEqual({ tag: tag?.id, kind: 'high', level: 85 });
    expect(low?.op === 'create' && low.set).toEqual({ tag: tag?.id, kind: 'low', level: 5 });
  });
  it('points an existing tag here instead of making one', () => {
    const [edit, more] = tagEdits([{ row: row({ limit: '85' }), place: 'p', instead: 'old' }], 'c', 0);
    expect(edit).toEqual({
      op: 'patch',
      kind: 'tag',
      id: 'old',
      set: { connection: 'c', point: { address: '40001', type: 'u16' }, group: null },
    });
    expect(more).toBeUndefined();
  });
});

it.each([
  [{ name: ' ' }, 'no name'],
  [{ place: ' / ' }, 'no place'],
  [{ limit: 'high' }, '“high” is no number'],
  [{ low_limit: 'low' }, '“low” is no number'],
  [{ factor: '0' }, 'a factor of 0 says nothing'],
  [{ low: '1,5' }, ''],
])('a row with %j has %s', (change, words) => expect(wrongWith(row(change))).toBe(words));

it('fills down as it is or counting, and only as far as chosen', () => {
  const rows = ['Zone 1', 'a', 'b', 'c'].map((name) => row({ name }));
  expect(filled(rows, 'name', 0, 2, true).map((r) => r.name)).toEqual(['Zone 1', 'Zone 2', 'Zone 3', 'c']);
  expect(filled(rows, 'name', 1, 3, false).map((r) => r.name)).toEqual(['Zone 1', 'a', 'a', 'a']);
});

it('takes a pasted piece of a spreadsheet from a cell on', () => {
  const rows = [row({}), row({}), row({})];
  const after = pasted(rows, 'pH\tEX-2\npressure\tEX-3\tbar\r\n', 1, 'name');
  expect(after.map((r) => [r.name, r.place, r.unit])).toEqual([
    ['Level', 'EX-1', ''],
    ['pH', 'EX-2', ''],
    ['pressure', 'EX-3', 'bar'],
  ]);
});

describe('judged', () => {
  const rows = [
    row({ key: 'a', name: 'Level' }),
    row({ key: 'b', name: 'Level ', place: ' EX-1' }),
    row({ key: 'c', name: 'pH', place: 'Works / EX-2' }),
    row({ key: 'd', name: '' }),
  ];
  const met = { places: { 'EX-1': 'p1' }, taken: new Map([['c', { row: 2, tag: 'old', source: 'elsewhere' }]]) };
  it('tells what keeps rows from becoming tags, and what is to be made', () => {
    const all = judged(rows, {}, met);
    expect(all.troubles).toEqual(['twice in this list', 'twice in this list', 'taken', 'no name']);
    expect([all.open, all.made, all.pointed, all.fresh]).toEqual([4, 4, 0, 2]);
  });
  it('counts what was left out or pointed elsewhere', () => {
    const some = judged(rows, { a: 'out', c: 'instead', d: 'out' }, met);
    expect(some.troubles).toEqual(['', '', '', '']);
    expect([some.open, some.made, some.pointed]).toEqual([0, 2, 1]);
  });
  it('knows an answer by the rows it was asked for', () => {
    const turned = [...rows].reverse();
    expect(judged(turned, {}, met).troubles[1]).toBe('taken');
    expect(judged(rows, {}, undefined).fresh).toBe(3);
  });
});
