import { expect, test } from 'vitest';
import type { CallPlanSet, CallTo, Item } from '../../../api/model';
import type { Contact } from '../../../parts/contacts';
import { planWords, stepWords } from './plan-words';

const item = (id: string, name: string, more = {}) => ({ id, title: `Works/${name}`, set: { name, ...more } }) as never;
const person = (account: string, name: string, reachable: boolean) => ({ account, name, reachable }) as Contact;
const named = {
  contacts: [person('a', 'Mara', true), person('b', 'Jon', false)],
  places: [item('p', 'Mill')] as Item<'place'>[],
  classes: [item('c', 'Process')] as Item<'alarm_class'>[],
  connections: [item('h', 'Gatehouse', { enabled: true }), item('o', 'Siren', { enabled: false })] as Item<'connection'>[],
};
const plan = (more: Partial<CallPlanSet>) => ({ under: null, lowest: 3, classes: [], after_min: 0, ...more }) as CallPlanSet;

test.each([
  [plan({}), 'Alarms of priority 3 and higher anywhere, and about Havrel itself, as soon as they come'],
  [plan({ under: 'p', lowest: 4, after_min: 5 }), 'Alarms of priority 4 at Works / Mill, not acknowledged for 5 min'],
  [
    plan({ classes: ['c', 'x'], under: 'gone', lowest: 1 }),
    'Alarms of Process, a class that is gone of every priority at a place that is gone, as soon as they come',
  ],
])('a plan says for which alarms it is', (set, words) => {
  expect(planWords(set, named)).toBe(words);
});

test.each<[CallTo, string, boolean]>([
  [{ kind: 'person', account: 'a' }, 'Mara', true],
  [{ kind: 'person', account: 'b' }, 'Jon', false],
  [{ kind: 'person', account: 'z' }, 'somebody', false],
  [{ kind: 'crew' }, 'the crew on shift', true],
  [{ kind: 'address', mail: 'lead@works.example' }, 'lead@works.example', true],
  [{ kind: 'hook', connection: 'h' }, 'Gatehouse', true],
  [{ kind: 'hook', connection: 'o' }, 'Siren', false],
  [{ kind: 'hook', connection: 'z' }, 'a web hook', false],
])('a step says who is told, and what may keep that from them: %j', (to, who, reached) => {
  const told = stepWords(to, named);
  expect([told.who, told.trouble === undefined]).toEqual([who, reached]);
});
