import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { render, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { expect, it, vi } from 'vitest';
import { pagesOf } from './rows';
import { moved, Sheet } from './sheet';

it.each([
  [0, 20, [0]],
  [90, 110, [0, 1]],
  [-5, 0, [0]],
  [99_950, 99_999, [999]],
])('rows %i to %i lie on pages', (first, last, pages) => {
  expect(pagesOf(first, last)).toEqual(pages);
});

it.each([
  ['ArrowDown', 4, 5],
  ['ArrowUp', 0, 0],
  ['PageDown', 95, 99],
  ['PageUp', 15, 5],
  ['End', 3, 99],
  ['Home', 50, 0],
  ['x', 50, undefined],
])('%s leads from row %i to %s', (key, at, wanted) => {
  expect(moved(key, at, 100, 10)).toBe(wanted);
});

it('no key moves in an empty sheet', () => {
  expect(moved('End', 0, 0, 10)).toBeUndefined();
});

it('fetches only what it shows of a hundred thousand rows, and opens by keyboard', async () => {
  const fetch = vi.fn((from: number, count: number) =>
    Promise.resolve({ total: 100_000, rows: Array.from({ length: count }, (_, i) => ({ name: `Tag ${from + i}` })) }),
  );
  const opened = vi.fn();
  // What has no layout has no height.
  vi.spyOn(Element.prototype, 'clientHeight', 'get').mockReturnValue(400);
  vi.spyOn(Element.prototype, 'clientWidth', 'get').mockReturnValue(800);
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Sheet
        label="Tags"
        source={['test']}
        fetch={fetch}
        idOf={(row) => row.name}
        onOpen={(row) => opened(row.name)}
        columns={[{ key: 'name', title: 'Name', width: '1fr', render: (row) => row.name }]}
      />
    </QueryClientProvider>,
  );
  const grid = screen.getByRole('grid', { name: 'Tags' });
  await waitFor(() => expect(grid.getAttribute('aria-rowcount')).toBe('100001'));
  await screen.findByText('Tag 0');
  expect(fetch).toHaveBeenCalledTimes(1);
  expect(screen.getAllByRole('row').length).toBeLessThan(60);
  grid.focus();
  await userEvent.keyboard('{ArrowDown}{ArrowDown}{Enter}');
  expect(opened).toHaveBeenCalledWith('Tag 2');
});
