import { describe, expect, it } from 'vitest';
import type { ClassSet } from '../../../api/model';
import {
  numberTyped,
  ownRenamed,
  parameterRows,
  parametersOf,
  partNames,
  partRows,
  partsOf,
  propertiesOf,
  propertyRows,
  renamed,
} from './rows';

const properties: ClassSet['properties'] = {
  a: {
    kind: 'measured',
    main: true,
    roll_up: 'average',
    tag: {
      name: 'Level',
      unit: 'm',
      range_high: '[[Height]]',
      range_low: 0,
      connection: '[[Controller]]',
      point: { address: '[[Base + 2]]', type: 'f32' } as never,
      setpoint: 'b',
      scaling: { raw_low: 0, raw_high: 10, low: 0, high: 1 },
      record: true,
      order: 0,
    },
    rules: { r: { kind: 'high', level: '[[Height - 1]]', priority: 3, cause: '[[Name]] overfills' } },
  },
  b: {
    kind: 'computed',
    main: false,
    roll_up: 'none',
    tag: { name: 'Twice', formula: { text: 'own("Level") * 2', mixed: 'refuse' }, order: 1 },
    rules: {},
  },
};

describe('a class as rows', () => {
  it('comes back as it was, with what has no field of its own', () => {
    expect(propertiesOf(propertyRows(properties))).toEqual(properties);
  });

  it('keeps the order in which the rows stand', () => {
    const turned = propertiesOf([...propertyRows(properties)].reverse());
    expect(propertyRows(turned).map((row) => row.fields.name)).toEqual(['Twice', 'Level']);
  });

  it('leaves out what was emptied', () => {
    const [first] = propertyRows(properties);
    if (!first) throw new Error('no row');
    const emptied = { ...first, fields: { ...first.fields, unit: '', range_high: '' }, connection: '', record: false };
    const tag = propertiesOf([emptied]).a?.tag ?? {};
    expect(Object.keys(tag).sort()).toEqual(['name', 'order', 'range_low', 'scaling', 'setpoint']);
  });

  it('takes a number, parameters, or what is neither for the server to refuse', () => {
    expect(['2,5', '', '[[Base + 1]]', 'high'].map(numberTyped)).toEqual([2.5, null, '[[Base + 1]]', 'high']);
  });

  it('keeps parameters and parts', () => {
    const parameters: ClassSet['parameters'] = {
      p: { name: 'Base', kind: 'number', default: 0, note: 'first register', order: 0 },
      q: { name: 'Serial number', kind: 'text', default: null, note: '', order: 1 },
    };
    expect(parametersOf(parameterRows(parameters))).toEqual(parameters);
    const parts: ClassSet['parts'] = {
      x: { name: 'Zone [[Number]]', class: 'c', count: 4, parameters: { p: '[[Base + 10 * Number]]', q: 'A' }, order: 0 },
    };
    expect(partsOf(partRows(parts), (_, id) => id === 'p')).toEqual(parts);
  });

  it('names a parameter otherwise wherever it stands', () => {
    const typed = { a: 'holding [[Base + 2]]', b: ['[[ base ]]', 'Base'], c: '[[Base address - Base]]', d: 3, e: '[[2*Base]]' };
    expect(renamed(typed, 'Base', 'First')).toEqual({
      a: 'holding [[First + 2]]',
      b: ['[[ First ]]', 'Base'],
      c: '[[Base address - First]]',
      d: 3,
      e: '[[2*First]]',
    });
  });

  it('names a property otherwise in the formulas of the others', () => {
    const rows = propertyRows({
      ...properties,
      c: {
        kind: 'computed',
        main: false,
        roll_up: 'none',
        tag: { name: 'Sum', formula: { text: 'own( "Level" ) + own("Levels") + at("Level")' } },
        rules: {},
      },
    });
    const when = { text: 'own("Level") > own("Levels")', mixed: 'refuse' };
    const rule = { id: 'r', set: { kind: 'expression', when } };
    const renamed = ownRenamed(
      rows.map((row) => ({ ...row, rules: [rule] })),
      'Level',
      'Fill "level"',
    );
    expect(renamed[0]?.rules[0]?.set.when).toEqual({ ...when, text: 'own("Fill \\"level\\"") > own("Levels")' });
    const message = 'Level [[value]], [[Level]], [[Levels]], [[own("Level") - 1]]';
    const saying = ownRenamed(
      rows.map((row) => ({ ...row, rules: [{ id: 'r', set: { kind: 'high', message } }] })),
      'Level',
      'Depth',
    );
    expect(saying[0]?.rules[0]?.set.message).toBe('Level [[value]], [[Depth]], [[Levels]], [[own("Depth") - 1]]');
    const formulas = ownRenamed(rows, 'Level', 'Fill "level"').map((row) => row.formula);
    expect(formulas.sort()).toEqual(['', 'own("Fill \\"level\\"") * 2', 'own("Fill \\"level\\"") + own("Levels") + at("Level")']);
  });

  it('names the properties of a part by what the part is called', () => {
    const part = { id: 'p', name: 'Zone [[Number]]', class: 'c', count: '2', parameters: {} };
    const of = { properties: { a: { tag: { name: 'Level' } }, b: { tag: {} } } } as never;
    expect(partNames(part, of)).toEqual(['Zone 1/Level', 'Zone 2/Level']);
    expect([partNames({ ...part, name: ' ' }, of), partNames(part, undefined)]).toEqual([[], []]);
  });

  it('sends the states of a rule as numbers, and what is no number as it was typed', () => {
    const [row] = propertyRows({
      a: {
        kind: 'measured',
        main: false,
        roll_up: 'none',
        tag: { name: 'Phase' },
        rules: { r: { kind: 'state', states: [2, 3] } },
      },
    });
    const typed = (states: string) => {
      const rules = row ? [{ id: 'r', set: { ...row.rules[0]?.set, kind: 'state', states } }] : [];
      return row && propertiesOf([{ ...row, rules }]).a?.rules?.r?.states;
    };
    expect([typed('2, 3'), typed('5'), typed('2, Rinse')]).toEqual([[2, 3], [5], [2, 'Rinse']]);
  });
});
