import { expect, test } from 'vitest';
import { blank, draftOf, setOf, troubleOf, whenWords } from './publication';

test.each([
  [{ on: 'change', deadband: 0, percent: false, shortest_ms: 0, longest_s: 0 }, 'on change'],
  [{ on: 'change', deadband: 0.5, percent: true, shortest_ms: 0, longest_s: 0 }, 'on change of more than 0.5 %'],
  [
    { on: 'change', deadband: 2, percent: false, shortest_ms: 1000, longest_s: 60 },
    'on change of more than 2, at most every 1 s, at least every minute',
  ],
  [{ on: 'interval', every_ms: 10_000 }, 'every 10 s'],
] as const)('%o reads %s', (when, words) => {
  expect(whenWords(when)).toBe(words);
});

test('what is typed becomes what is stored, and back', () => {
  const draft = { ...blank(), name: ' Out ', deadband: '0,5', shortest: '1.5', longest: '60' };
  const set = setOf(draft);
  expect(set).toMatchObject({
    name: 'Out',
    when: { on: 'change', deadband: 0.5, percent: false, shortest_ms: 1500, longest_s: 60 },
  });
  expect(Object.keys(set)).not.toContain('saved');
  const back = draftOf(draft.id, { ...set, connection: 'c', order: 0 });
  expect(back).toMatchObject({ deadband: '0.5', shortest: '1.5', longest: '60', on: 'change', saved: true });
  expect(setOf(draftOf('x', { ...set, when: { on: 'interval', every_ms: 250 }, connection: 'c', order: 0 })).when).toEqual({
    on: 'interval',
    every_ms: 250,
  });
});

test('what is no number goes to the server as it was typed', () => {
  const set = setOf({ ...blank(), shortest: 'soon', deadband: 'x' });
  expect(set.when).toMatchObject({ deadband: 'x', shortest_ms: 'soon' });
});

test('what cannot be sent and what was refused is told', () => {
  const view = {
    id: '',
    tags: 1,
    topics: 0,
    sent: 0,
    last: null,
    refused: 0,
    words: '',
    problems: [] as string[],
    written: 0,
    write_refused: 0,
    write_last: null,
    write_words: '',
  };
  expect(troubleOf(view)).toBe('');
  const told = troubleOf({ ...view, problems: ['One.', 'Two.'], refused: 2, words: 'a/b: no' });
  expect(told).toBe('One. (and 1 more) 2 messages refused, the last on a/b: no');
  expect(troubleOf({ ...view, write_refused: 1, write_words: 'c: no' })).toBe('1 write refused, the last on c: no');
});
