import { beforeEach, expect, it, vi } from 'vitest';
import { http } from './client';
import { commit, made } from './queries';

/** What was sent, as the revision it was worked from. */
const worked: string[] = [];
let newest = 0;

beforeEach(() => {
  worked.length = 0;
  vi.spyOn(http, 'POST').mockImplementation((async (_path: string, given: { params: { header: { 'If-Match': string } } }) => {
    worked.push(given.params.header['If-Match']);
    const revision = ++newest;
    await Promise.resolve();
    return { data: { revision }, response: new Response() };
  }) as unknown as typeof http.POST);
});

it('sends two edits made at once one after the other, the second as worked from the first', async () => {
  newest = 10;
  expect(await Promise.all([commit('one', 10, []), commit('two', 10, [])])).toEqual([11, 12]);
  expect(worked).toEqual(['10', '11']);
});

it('keeps the revision that was worked from where somebody else came between', async () => {
  newest = 21;
  await commit('after a change of somebody else', 20, []);
  await commit('still from there', 20, []);
  expect(worked).toEqual(['20', '20']);
});

it('counts what this page made by another way, and goes on after an edit that was refused', async () => {
  await made(31);
  newest = 31;
  vi.spyOn(http, 'POST').mockRejectedValueOnce(new TypeError('away'));
  const lost = commit('lost', 30, []);
  const kept = commit('kept', 30, []);
  await expect(lost).rejects.toThrow('cannot be reached');
  expect(await kept).toBe(32);
  expect(worked).toEqual(['31']);
});
