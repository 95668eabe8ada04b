import { expect, test } from 'vitest';
import {
  type Account,
  BLANK,
  freeName,
  namesOf,
  newPassword,
  REFUSED,
  rightsWords,
  saved,
  sheet,
  typedOf,
  type View,
} from './account';

const meter: Account = {
  id: 'a',
  name: 'meter-1',
  password: { kept: true },
  rights: [
    { topics: 'site/{account}/#', may: 'publish' },
    { topics: 'set', may: 'both' },
  ],
};

test('rights read as a sentence of the account', () => {
  expect(rightsWords(meter)).toBe('publishes site/meter-1/#; publishes and receives set');
  expect(rightsWords({ ...meter, rights: [] })).toBe('nothing yet');
});

test('passwords are long, never the same, and hold no letters that look alike', () => {
  const made = Array.from({ length: 200 }, newPassword);
  expect(new Set(made).size).toBe(200);
  for (const password of made) expect(password).toMatch(/^[a-km-zA-HJ-NP-Z2-9]{20}$/);
});

test('several names become several accounts, each with a password of its own', () => {
  const typed = { ...BLANK, names: ' meter-2 \n\nmeter-3\n' };
  expect(namesOf(typed)).toEqual(['meter-2', 'meter-3']);
  const { next, given } = saved([meter], undefined, typed);
  expect(next.map(({ name }) => name)).toEqual(['meter-1', 'meter-2', 'meter-3']);
  expect(new Set(next.map(({ id }) => id)).size).toBe(3);
  expect(next[0]).toBe(meter);
  expect(given.map(({ name }) => name)).toEqual(['meter-2', 'meter-3']);
  expect(next[1]?.password).toEqual({ secret: given[0]?.password });
  expect(given[0]?.password).not.toBe(given[1]?.password);
});

test('an account keeps its password until another one is wanted', () => {
  const typed = typedOf(meter);
  const kept = saved([meter], meter, { ...typed, note: 'boiler', rights: [...typed.rights, { topics: ' ', may: 'both' }] });
  expect(kept).toEqual({ next: [{ ...meter, enabled: true, note: 'boiler' }], given: [] });
  const own = saved([meter], meter, { ...typed, password: 'kelp and salt' });
  expect(own.next[0]?.password).toEqual({ secret: 'kelp and salt' });
  expect(own.given).toEqual([{ name: 'meter-1', password: 'kelp and salt' }]);
  const anew = saved([meter], meter, { ...typed, anew: true });
  expect(anew.given[0]?.password).toHaveLength(20);
  const lost = saved([{ ...meter, password: null }], { ...meter, password: null }, typed);
  expect(lost.given).toHaveLength(1);
});

test('a name that is taken gets a number', () => {
  expect(freeName([], 'havrel')).toBe('havrel');
  expect(freeName([{ name: 'havrel' }, { name: 'havrel-2' }], 'havrel')).toBe('havrel-3');
});

test('what devices are told stands in a sheet', () => {
  const view = { addresses: [{ host: 'a,b', port: 1883, secured: false, websocket: false }] } as View;
  const given = [{ name: 'meter-1', password: 'x"y' }];
  expect(sheet(given, view)).toBe('Host,Port,User,Password\r\n"a,b",1883,meter-1,"x""y"');
  expect(sheet(given, undefined)).toBe('Host,Port,User,Password\r\n,,meter-1,"x""y"');
});

test('every refusal has words and what to do', () => {
  for (const [words, cure] of Object.values(REFUSED)) expect(words && cure).toBeTruthy();
});
