import { describe, expect, it } from 'vitest';
import {
  beyond,
  blank,
  type Candidate,
  filled,
  judged,
  mayFill,
  pasted,
  placesOf,
  proposed,
  readList,
  tagEdits,
  type Writing,
  withProposal,
  written,
  wrongWith,
} from './candidates';

const REGISTERS: Writing = { registers: true, types: ['u16', 'f32'] };

describe('readList', () => {
  it('reads tabs, semicolons and commas, and passes over a head', () => {
    for (const mark of ['\t', ';', ',']) {
      const lines = [['Address', 'Type', 'Name'], ['40001', 'u16', 'Level', '%', '0.1'], ['holding 2', '', 'Temperature'], []];
      const { rows, wrong } = readList(lines.map((line) => line.join(mark)).join('\n'));
      expect(wrong).toEqual(mark === '\t' ? ['Line 2: “%” is in no column; the columns are address, type, name.'] : wrong);
      expect(rows.map((r) => [r.address, r.type, r.name])).toEqual([
        ['40001', 'u16', 'Level'],
        ['holding 2', '', 'Temperature'],
      ]);
    }
  });
  it('takes columns in the order of their head', () => {
    const { rows, wrong } = readList('Register;Name;Place;Type;Factor\n40001;"Level; upper";EX-1;f32 CDAB;0,1');
    expect(wrong).toEqual([]);
    expect(rows[0]).toMatchObject({ address: '40001', name: 'Level; upper', place: 'EX-1', type: 'f32 CDAB', factor: '0.1' });
    expect(readList('Address;Colour\n40001;red').wrong).toEqual([
      'Line 1: there is no column “Colour”.',
      'Line 2: “red” is in no column; the columns are address.',
    ]);
  });
  it('keeps every line, and says what is wrong at its cell', () => {
    const { rows, wrong } = readList(
      '40001\tf32 xyz\tLevel\n\tu16\tpH\n40003\tu16\t\n40004\tu16\tFlow\tl/s\tx\n40005\tu16\ta\tb\t1\tmore',
    );
    expect(wrong).toEqual(['Line 5: “more” is in no column; the columns are address, type, name, unit, factor.']);
    const placed = rows.map((row) => ({ ...row, place: 'EX-1' }));
    const { faults, open } = judged(placed, REGISTERS, undefined);
    expect(open).toBe(4);
    expect(faults.map((all) => all.map((f) => [f.column, f.words]))).toEqual([
      [['type', '“xyz” is not a byte order; orders are ABCD, CDAB, BADC, DCBA, EFGHABCD, CDABGHEF, FEHGBADC, DCBAHGFE.']],
      [['address', 'no address']],
      [['name', 'no name']],
      [['factor', '“x” is not a number']],
      [],
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
      REGISTERS,
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
    const [edit, more] = tagEdits([{ row: row({ limit: '85' }), place: 'p', instead: 'old' }], 'c', REGISTERS, 0);
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
  [{ limit: 'high' }, '“high” is not a number'],
  [{ low_limit: 'low' }, '“low” is not a number'],
  [{ factor: '0' }, 'a factor of 0 makes every value 0'],
  [{ low: '1,5' }, undefined],
])('a row with %j has %s', (change, words) => expect(wrongWith(row(change), REGISTERS)[0]?.words).toBe(words));

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
    const all = judged(rows, REGISTERS, met);
    expect(all.faults.map((f) => f[0]?.words)).toEqual(['twice in this list', 'twice in this list', 'taken', 'no name']);
    expect([all.open, all.made, all.pointed, all.fresh]).toEqual([4, 4, 0, ['Works', 'Works/EX-2']]);
  });
  it('counts what was skipped or changes another tag', () => {
    const fixes = ['out', undefined, 'instead', 'out'] as const;
    const some = judged(
      rows.map((r, i) => ({ ...r, fix: fixes[i] })),
      REGISTERS,
      met,
    );
    expect([some.open, some.made, some.pointed]).toEqual([0, 2, 1]);
  });
  it('knows an answer by the rows it was asked for', () => {
    const turned = [...rows].reverse();
    expect(judged(turned, REGISTERS, met).faults[1]?.[0]?.words).toBe('taken');
    expect(judged(rows, REGISTERS, undefined).fresh).toHaveLength(3);
  });
  it('shows at its cell what the server says of an address', () => {
    const wrong: [string, string][] = [['point.address', 'Addresses end at 65536.']];
    const read = new Map([['a', { shown: '', wrong }]]);
    const one = row({ key: 'a', written: true, address: '99999' });
    expect(judged([one], REGISTERS, met, read).faults).toEqual([[{ column: 'address', words: 'Addresses end at 65536.' }]]);
  });
});

describe('patterns', () => {
  const rows = [
    row({ key: 'a', name: 'P065' }),
    row({ key: 'b', name: 'pasted' }),
    row({ key: 'c', name: '' }),
    row({ key: 'd', name: 'P068', filled: { name: true } }),
  ];
  const names = ['P066', 'P067', 'P068', 'P069'];
  it('fill what is empty and what they filled themselves, and nothing else', () => {
    const proposal = proposed(rows, 'name', 'words', names);
    expect([...(proposal?.texts ?? [])]).toEqual([
      ['c', 'P068'],
      ['d', 'P069'],
    ]);
    expect(proposal?.empty).toBe(1);
    const after = withProposal(rows, proposal as NonNullable<typeof proposal>);
    expect(after.map((r) => [r.name, r.filled.name])).toEqual([
      ['P065', undefined],
      ['pasted', undefined],
      ['P068', true],
      ['P069', true],
    ]);
    expect(written(after[2] as Candidate, { name: 'mine' }).filled).toEqual({});
  });
  it('are not offered where every name was pasted', () => {
    const all = rows.map((r) => row({ key: r.key, name: 'x' }));
    expect(mayFill(all, 'name', 'a')).toBe(false);
    expect(proposed(all, 'name', 'words', names)).toBeNull();
  });
});

it('refuses a piece of a spreadsheet of which a part would be lost', () => {
  const rows = [row({}), row({})];
  expect(beyond(rows, 'a\tb\nc\td', 0, 'name', ['name', 'place'])).toBe('');
  expect(beyond(rows, 'a\tb\tc', 0, 'name', ['name', 'place'])).toBe('1 column more than there are here');
  expect(beyond(rows, 'a\nb', 1, 'place', ['name', 'place'])).toBe('1 row more than there are here');
});
