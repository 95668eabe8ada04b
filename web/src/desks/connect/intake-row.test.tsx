import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import type { ComponentProps } from 'react';
import { afterEach, expect, it, vi } from 'vitest';
import type { Item } from '../../api/model';
import { blank, type Candidate } from './candidates';
import { IntakeRow, type IntakeTools } from './intake-row';

afterEach(cleanup);

const tools = { change: vi.fn(), learn: vi.fn(), key: vi.fn(), paste: vi.fn(), focus: vi.fn(), fix: vi.fn(), remove: vi.fn() };
const connection = { id: 'c', set: { kind: 'memory', interval_ms: 500 } } as Item<'connection'>;
const row: Candidate = {
  ...blank('k', ['Pump', '1'], 'Pump 1', {}),
  type: 'number',
  name: 'Pressure',
  place: 'EX-1',
  unit: 'bar',
};

function show(more: Partial<ComponentProps<typeof IntakeRow>>, aim = 0) {
  const all: IntakeTools = { ...tools, aim: () => aim };
  const element = (own: Partial<ComponentProps<typeof IntakeRow>>) => (
    <QueryClientProvider client={new QueryClient()}>
      <IntakeRow
        scrolling={false}
        index={40}
        start={0}
        row={row}
        connection={connection}
        found
        columns={['type', 'name', 'place', 'unit']}
        groups={[]}
        tracks="1fr"
        faults={[]}
        clash={undefined}
        shown={undefined}
        ghost={undefined}
        ghostIn={undefined}
        marked={undefined}
        tools={{ current: all }}
        {...own}
      />
    </QueryClientProvider>
  );
  const { rerender } = render(element(more));
  return (own: Partial<ComponentProps<typeof IntakeRow>>) => rerender(element(own));
}

it('is scrolled by without fields, saying the same, and has them once all stands still', () => {
  const again = show({ scrolling: true });
  expect(screen.queryByRole('textbox')).toBeNull();
  for (const said of ['Pump 1', 'number', 'Pressure', 'EX-1', 'bar']) expect(screen.getByText(said)).toBeTruthy();
  again({ scrolling: false });
  expect(screen.getByLabelText('Name of Pump 1')).toHaveProperty('value', 'Pressure');
  // Fields that are there stay when it is scrolled again.
  again({ scrolling: true });
  expect(screen.getAllByRole('textbox')).toHaveLength(3);
});

it('has fields at once where the cursor goes, so that keys find them', () => {
  show({ scrolling: true }, 38);
  expect(screen.getByLabelText('Name of Pump 1')).toBeTruthy();
});

it('tells what was typed, and takes a name that was changed as an example', async () => {
  show({});
  const name = screen.getByLabelText('Name of Pump 1');
  await userEvent.type(name, 's');
  expect(tools.change).toHaveBeenLastCalledWith(40, { name: 'Pressures' });
  expect(tools.focus).toHaveBeenCalledWith(40, 'name');
});

it('offers what can be done about a name that is taken', async () => {
  show({ faults: [{ column: 'name', words: 'taken' }], clash: { row: 0, tag: 'old', source: 'Line 1 · holding 4' } });
  expect(screen.getByLabelText('Name of Pump 1').getAttribute('aria-invalid')).toBe('true');
  expect(screen.getByRole('button', { name: 'change that tag' }).title).toBe('Now read from Line 1 · holding 4');
  await userEvent.click(screen.getByRole('button', { name: 'skip' }));
  expect(tools.fix).toHaveBeenCalledWith(40, 'out');
});

it('shows what a pattern would write before it does', () => {
  const again = show({ ghost: 'Pressure 2', ghostIn: 'name' });
  expect(screen.getByText('→ Pressure 2')).toBeTruthy();
  again({ row: { ...row, name: '' }, ghost: 'Pressure 2', ghostIn: 'name' });
  expect(screen.getByLabelText('Name of Pump 1')).toHaveProperty('placeholder', 'Pressure 2');
  expect(tools.change).not.toHaveBeenCalledWith(40, { name: 'Pressure 2' });
});
