import { expect, it } from 'vitest';
import type { Item } from '../../api/model';
import type { Tag } from './cards';
import { commandsOf, machineOf } from './commands';

const tag = (id: string, name: string, property: string | null, writable: boolean) =>
  ({ id, title: `Works/Extraction/${id}/${name}`, set: { name, property, writable } }) as unknown as Tag;

it('offers what two machines or more have alike and can be written', () => {
  const tags = [
    tag('EX-1', 'Setpoint', 'p', true),
    tag('EX-2', 'Setpoint', 'p', true),
    tag('EX-1', 'Level', 'q', false),
    tag('EX-2', 'Level', 'q', false),
    tag('TF-1', 'Setpoint', 'r', true),
    tag('TF-2', 'Setpoint', null, true),
    tag('TF-3', 'Setpoint', null, true),
  ];
  const classes = [
    { id: 'heated', set: { name: 'Heated vessel', extends: 'vessel', properties: { p: {} } } },
    { id: 'vessel', set: { name: 'Vessel', extends: null, properties: { p: {}, q: {} } } },
  ] as unknown as Item<'class'>[];
  const found = commandsOf(tags, classes);
  expect(found.map((c) => [c.property, c.title, c.tags.map((t) => t.id)])).toEqual([
    ['p', 'Vessel · Setpoint', ['EX-1', 'EX-2']],
  ]);
  expect(commandsOf([], classes)).toEqual([]);
});

it('names a machine by its path below the site', () => {
  expect(machineOf({ title: 'Works/Extraction/EX-1/Agitator/On' })).toBe('Extraction / EX-1 / Agitator');
  expect(machineOf({ title: 'Level' })).toBe('Level');
});
