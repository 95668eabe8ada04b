import { expect, test, vi } from 'vitest';
import { type Answer, Pages } from './pages';

/** A server with so many rows; each row's cell is its number in the order of the list. */
function server(count: number, each: number, { known = false, newest = false, empty = 0 } = {}) {
  let blank = empty;
  return vi.fn(async (place: string | null, rows: number): Promise<Answer> => {
    if (blank > 0 && place !== null) {
      blank -= 1;
      return answer([], place);
    }
    const steps = count / each;
    const at = place === null ? (newest ? steps : 0) : Number(place);
    const some = Math.max(1, Math.floor(rows / each));
    const to = newest ? Math.max(0, at - some) : Math.min(steps, at + some);
    const [from, length] = newest ? [(steps - at) * each, (at - to) * each] : [at * each, (to - at) * each];
    const numbers = Array.from({ length }, (_, i) => from + i);
    return answer(numbers, (newest ? to === 0 : to === steps) ? null : String(to));
  });
  function answer(numbers: number[], next: string | null): Answer {
    const tags = Array.from({ length: each }, () => ({ id: '', title: '', unit: '', decimals: 0 }));
    const row_tags = each > 1 ? numbers.map((n) => n % each) : [];
    const rows = numbers.map((n) => [n]) as unknown as Answer['rows'];
    return { from: '', to: '', complete_until: '', tags, columns: [], rows, row_tags, next, total: known ? count : null };
  }
}

const cells = (rows: readonly { cells: readonly unknown[] }[]) => rows.map((row) => row.cells[0]);

test.each([
  [1, false],
  [1, true],
  [4, false],
  [4, true],
])('where it is known how many there are, any rows are read at once: %i each, newest first %s', async (each, newest) => {
  const ask = server(100_000, each, { known: true, newest });
  const pages = new Pages(ask, newest);
  await pages.begin();
  expect(pages.total()).toBe(100_000);
  const { rows } = await pages.rows(70_001, 100);
  expect(cells(rows)).toEqual(Array.from({ length: 100 }, (_, i) => 70_001 + i));
  expect(rows[0]?.index).toBe(70_001);
  expect(cells((await pages.rows(99_990, 100)).rows)).toHaveLength(10);
  expect(ask.mock.calls.length).toBeLessThan(6);
});

test('otherwise the list grows as one goes down it, also over what fits no condition', async () => {
  const pages = new Pages(server(1700, 1, { empty: 3 }), false);
  await pages.begin();
  expect(pages.total()).toBe(560);
  const heard = vi.fn();
  pages.follow(heard);
  const [a, b] = await Promise.all([pages.rows(500, 100), pages.rows(600, 100)]);
  expect([cells(a.rows)[0], cells(b.rows)[99]]).toEqual([500, 699]);
  expect(heard).toHaveBeenCalled();
  await pages.rows(1600, 100);
  expect([pages.total(), pages.cutOff()]).toEqual([1700, false]);
});

test('only so many are held, and that is said', async () => {
  const pages = new Pages(server(5000, 1), false, 1000);
  await pages.begin();
  await pages.rows(4000, 100);
  expect([pages.total(), pages.cutOff()]).toEqual([1000, true]);
});

test('a failure is told, and the next try goes on', async () => {
  const ask = server(1200, 1);
  const pages = new Pages(ask, false);
  await pages.begin();
  ask.mockRejectedValueOnce(new Error('away'));
  await expect(pages.rows(600, 100)).rejects.toThrow('away');
  expect(cells((await pages.rows(600, 100)).rows)[0]).toBe(600);
});
