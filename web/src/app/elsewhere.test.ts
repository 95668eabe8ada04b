import { expect, it } from 'vitest';
import type { ConnectionStatus, Status } from '../api/live';
import { newsOf } from './elsewhere';

type State = ConnectionStatus['state'];
const names = new Map(['a', 'b', 'c', 'd'].map((id) => [id, `Line ${id}`]));

function status(states: Record<string, State>, database_ok = true, since = '2026-11-20T06:00:00Z'): Status {
  const of = (state: State) =>
    ({ state, since, message: 'No answer within 1000 ms.', cure: 'Check the unit id.' }) as ConnectionStatus;
  const connections = Object.fromEntries(Object.entries(states).map(([id, state]) => [id, of(state)]));
  return { database_ok, connections } as unknown as Status;
}

it('tells what broke and what came back, once', () => {
  const [well, trouble] = [status({ a: 'running', b: 'running' }), status({ a: 'trouble', b: 'running' })];
  expect(newsOf(well, trouble, names)).toEqual([
    { key: 'a', well: false, words: 'Line a: No answer within 1000 ms.', more: 'Check the unit id.' },
  ]);
  expect(newsOf(trouble, trouble, names)).toEqual([]);
  const back = newsOf(trouble, status({ a: 'running', b: 'running' }, true, '2026-11-20T06:00:42Z'), names);
  expect(back).toEqual([{ key: 'a', well: true, words: 'Line a answers again', more: 'after 42 s' }]);
});

it('says nothing of what begins, is switched off, or nobody knows', () => {
  expect(newsOf(status({}), status({ a: 'trouble' }), names)).toEqual([]);
  expect(newsOf(status({ a: 'connecting' }), status({ a: 'trouble' }), names)).toEqual([]);
  expect(newsOf(status({ a: 'running' }), status({ a: 'off' }), names)).toEqual([]);
  expect(newsOf(status({ z: 'running' }), status({ z: 'trouble' }), names)).toEqual([]);
});

it('puts many into one sentence', () => {
  const ids = ['a', 'b', 'c', 'd'];
  const all = (state: State) => status(Object.fromEntries(ids.map((id) => [id, state])));
  const [one, ...rest] = newsOf(all('running'), all('trouble'), names);
  expect([one?.words, rest.length]).toEqual(['4 connections do not answer', 0]);
});

it('tells of the database', () => {
  const [well, away] = [status({}), status({}, false)];
  expect(newsOf(well, away, names)[0]?.words).toBe('The database stores no values');
  expect(newsOf(away, well, names)[0]).toMatchObject({ well: true, words: 'The database stores values again' });
});
