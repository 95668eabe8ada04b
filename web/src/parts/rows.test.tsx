import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, renderHook, waitFor } from '@testing-library/react';
import type { ReactNode } from 'react';
import { afterEach, expect, it, vi } from 'vitest';
import { PAGE, slotsFor, useRows } from './rows';

afterEach(cleanup);

/** Rows of a list whose answers wait until they are let go. */
function held() {
  const waiting: (() => void)[] = [];
  const fetch = vi.fn(
    (from: number, count: number) =>
      new Promise<{ total: number; rows: string[] }>((done) => {
        const round = fetch.mock.calls.length;
        waiting.push(() => done({ total: 1000, rows: Array.from({ length: count }, (_, i) => `${from + i} of ${round}`) }));
      }),
  );
  const client = new QueryClient();
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  );
  const hook = renderHook(({ first, end }) => useRows(['list'], fetch, first, end), {
    wrapper,
    initialProps: { first: 0, end: 20 },
  });
  const go = () => {
    for (const answer of waiting.splice(0)) answer();
  };
  return { ...hook, client, fetch, go };
}

it('asks for the pages in sight only, each once', async () => {
  const { result, rerender, fetch, go } = held();
  expect(result.current.rowAt(5)).toBeUndefined();
  go();
  await waitFor(() => expect(result.current.rowAt(5)).toBe('5 of 1'));
  expect(result.current.counted).toBe(1000);
  rerender({ first: 95, end: 120 });
  expect(fetch).toHaveBeenCalledTimes(2);
  expect(fetch).toHaveBeenLastCalledWith(PAGE, PAGE);
  // The first page is there still while the second comes.
  expect([result.current.rowAt(95), result.current.rowAt(100)]).toEqual(['95 of 1', undefined]);
  go();
  await waitFor(() => expect(result.current.rowAt(100)).toBe('100 of 2'));
});

it('shows what was there last while it is asked anew, so that nothing flickers', async () => {
  const { result, client, go } = held();
  go();
  await waitFor(() => expect(result.current.rowAt(0)).toBe('0 of 1'));
  void client.resetQueries({ queryKey: ['sheet', 'list'] });
  await waitFor(() => expect(client.isFetching()).toBe(1));
  expect(result.current.rowAt(0)).toBe('0 of 1');
  go();
  await waitFor(() => expect(result.current.rowAt(0)).toBe('0 of 2'));
});

it.each([
  [0, 32],
  [32, 32],
  [33, 64],
  [100, 128],
])('%i rows take %i elements in turn', (drawn, slots) => {
  expect(slotsFor(drawn)).toBe(slots);
});
