import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { act, cleanup, fireEvent, render, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { createRef, useState } from 'react';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { type CellTrouble, cellName, Grid, type GridColumn, type GridHandle, stepped } from './grid';
import { NOTHING, type Staged, staged as stage, type Write } from './staged';

interface Row {
  id: string;
  name: string;
  address: string;
  record: string;
}

const COLUMNS: GridColumn<Row>[] = [
  { key: 'name', title: 'Name', width: 120, pinned: true },
  { key: 'address', title: 'Address', width: 120 },
  { key: 'record', title: 'Recorded', width: 80, offers: ['yes', 'no'] },
  { key: 'age', title: 'Age', width: 80, say: () => '2 s' },
];

const rows = (count: number): Row[] =>
  Array.from({ length: count }, (_, i) => ({ id: `r${i}`, name: `Zone ${i + 1}`, address: `holding ${2 * i}`, record: 'no' }));

let saved: Write[][] = [];
const handle = createRef<GridHandle>();
const [onUndo, onSave, onOpen] = [vi.fn(), vi.fn(), vi.fn()];

function Harness({ all, writable, troubles }: { all: Row[]; writable: boolean; troubles: ReadonlyMap<string, CellTrouble> }) {
  const [staged, setStaged] = useState<Staged>(NOTHING);
  return (
    <Grid<Row>
      label="Tags"
      columns={COLUMNS}
      source={['test', all.length]}
      fetch={(from, count) => Promise.resolve({ total: all.length, rows: all.slice(from, from + count) })}
      rowOf={(row) => ({ id: row.id, fresh: false, label: row.name })}
      textOf={(row, key) => String(row[key as keyof Row] ?? '')}
      staged={staged}
      onWrite={(writes) => {
        saved.push(writes);
        setStaged((old) => stage(old, writes));
      }}
      blank={() => ({ row: { id: `new${saved.length}-${Math.random()}`, fresh: true, label: 'new' }, texts: { record: 'no' } })}
      troubles={troubles}
      onUndo={onUndo}
      onSave={onSave}
      onOpen={onOpen}
      writable={writable}
      handle={handle}
    />
  );
}

/** Shows a sheet with so many rows, once they are there, with the cursor in it. */
async function sheet(count: number, writable = true, troubles: ReadonlyMap<string, CellTrouble> = new Map()) {
  render(
    <QueryClientProvider client={new QueryClient()}>
      <Harness all={rows(count)} writable={writable} troubles={troubles} />
    </QueryClientProvider>,
  );
  const grid = screen.getByRole('grid', { name: 'Tags' });
  await waitFor(() => expect(grid.getAttribute('aria-rowcount')).toBe(String(count + (writable ? 2 : 1))));
  await screen.findByText('Zone 1');
  grid.focus();
  return grid;
}

/** What a column shows, the row for the next new one left out. */
function column(at: number): string[] {
  const drawn = screen
    .getAllByRole('row')
    .filter((row) => !within(row).queryByText('New tag…') && within(row).queryAllByRole('gridcell').length > 0);
  const sorted = drawn.sort((a, b) => Number(a.getAttribute('aria-rowindex')) - Number(b.getAttribute('aria-rowindex')));
  return sorted.map((row) => within(row).getAllByRole('gridcell')[at]?.textContent ?? '');
}

const paste = (grid: HTMLElement, text: string) => fireEvent.paste(grid, { clipboardData: { getData: () => text } });
const keys = (text: string) => userEvent.keyboard(text);

beforeEach(() => {
  saved = [];
  vi.clearAllMocks();
  // What has no layout has no size.
  vi.spyOn(Element.prototype, 'clientHeight', 'get').mockReturnValue(400);
  vi.spyOn(Element.prototype, 'clientWidth', 'get').mockReturnValue(800);
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

describe('where keys lead', () => {
  it.each([
    ['ArrowDown', false, { row: 2, column: 1 }],
    ['ArrowUp', true, { row: 0, column: 1 }],
    ['ArrowRight', true, { row: 1, column: 3 }],
    ['ArrowLeft', false, { row: 1, column: 0 }],
    ['PageDown', false, { row: 9, column: 1 }],
    ['End', true, { row: 9, column: 3 }],
    ['Home', false, { row: 1, column: 0 }],
  ])('%s (with Ctrl: %s)', (key, ctrl, wanted) => {
    expect(stepped(key, ctrl, { row: 1, column: 1 }, 10, 4, 20)).toEqual(wanted);
  });

  it('nowhere in an empty sheet, and by no other key', () => {
    expect(stepped('ArrowDown', false, { row: 0, column: 0 }, 0, 4, 20)).toBeUndefined();
    expect(stepped('x', false, { row: 0, column: 0 }, 10, 4, 20)).toBeUndefined();
  });
});

describe('by keys alone', () => {
  it('a cell is written over, goes on to the next row, and Escape takes a stroke back', async () => {
    await sheet(4);
    await keys('Inlet{Enter}');
    await waitFor(() => expect(column(0)).toEqual(['Inlet', 'Zone 2', 'Zone 3', 'Zone 4']));
    await keys('Outl{Escape}');
    expect(column(0)).toEqual(['Inlet', 'Zone 2', 'Zone 3', 'Zone 4']);
    expect(saved).toEqual([[{ row: { id: 'r0', fresh: false, label: 'Zone 1' }, key: 'name', text: 'Inlet', was: 'Zone 1' }]]);
  });

  it('F2 goes on with what stands there', async () => {
    await sheet(2);
    await keys('{F2}');
    expect(screen.getByLabelText('Name of Zone 1')).toHaveProperty('value', 'Zone 1');
    await userEvent.clear(screen.getByLabelText('Name of Zone 1'));
    await keys('Zone A{Tab}');
    await waitFor(() => expect(column(0)).toEqual(['Zone A', 'Zone 2']));
  });

  it('a space turns a cell of yes and no, and a cell that is only shown takes nothing', async () => {
    await sheet(2);
    await keys('{ArrowRight}{ArrowRight} ');
    await waitFor(() => expect(column(2)).toEqual(['yes', 'no']));
    await keys('{ArrowRight}x{Delete}');
    expect(column(3)).toEqual(['2 s', '2 s']);
    expect(saved.flat()).toHaveLength(1);
  });

  it('a range is emptied, filled and counted down', async () => {
    await sheet(4);
    await keys('{Shift>}{ArrowDown}{ArrowDown}{ArrowDown}{/Shift}{Control>}d{/Control}');
    await waitFor(() => expect(column(0)).toEqual(['Zone 1', 'Zone 1', 'Zone 1', 'Zone 1']));
    await keys('{ArrowUp}{ArrowUp}Zone 3{Enter}{Control>}{Home}{/Control}{Shift>}{ArrowDown}{ArrowDown}{ArrowDown}{/Shift}');
    await keys('{Control>}{Shift>}d{/Shift}{/Control}');
    await waitFor(() => expect(column(0)).toEqual(['Zone 1', 'Zone 3', 'Zone 5', 'Zone 7']));
    await keys('{Delete}');
    await waitFor(() => expect(column(0)).toEqual(['', '', '', '']));
  });

  it('two cells give the stride of addresses', async () => {
    await sheet(4);
    await keys('{ArrowRight}holding 100{Enter}holding 110{Enter}{ArrowUp}{ArrowUp}');
    await keys('{Shift>}{ArrowDown}{ArrowDown}{ArrowDown}{/Shift}{Control>}{Shift>}d{/Shift}{/Control}');
    await waitFor(() => expect(column(1)).toEqual(['holding 100', 'holding 110', 'holding 120', 'holding 130']));
  });

  it('saves, undoes and opens by its keys', async () => {
    await sheet(3);
    await keys('{ArrowDown}{Control>}s{/Control}{Control>}z{/Control}{Enter}');
    expect([onSave.mock.calls.length, onUndo.mock.calls.length]).toEqual([1, 1]);
    expect(onOpen).toHaveBeenCalledWith(expect.objectContaining({ id: 'r1' }));
  });
});

describe('with a spreadsheet', () => {
  it('takes a block from the cursor on, and makes rows behind the last', async () => {
    const grid = await sheet(2);
    await keys('{ArrowDown}');
    paste(grid, 'Pump\tholding 8\nValve\tholding 9\nFan\tholding 10');
    await waitFor(() => expect(column(0)).toEqual(['Zone 1', 'Pump', 'Valve', 'Fan']));
    expect(column(1).slice(0, 4)).toEqual(['holding 0', 'holding 8', 'holding 9', 'holding 10']);
    // A row that is made begins with what is usual.
    expect(column(2).slice(2, 4)).toEqual(['no', 'no']);
  });

  it('fills a range with one cell, and leaves out what is only shown', async () => {
    const grid = await sheet(3);
    await keys('{ArrowRight}{ArrowRight}{Shift>}{ArrowRight}{ArrowDown}{ArrowDown}{/Shift}');
    paste(grid, 'yes');
    await waitFor(() => expect(column(2)).toEqual(['yes', 'yes', 'yes']));
    expect(saved.flat().every((w) => w.key === 'record')).toBe(true);
  });

  it('gives the range, with cells in quotes where they need it', async () => {
    const text = vi.fn(() => Promise.resolve());
    vi.stubGlobal('navigator', { ...navigator, clipboard: { writeText: text } });
    const grid = await sheet(3);
    await keys('{Shift>}{ArrowRight}{ArrowDown}{/Shift}');
    fireEvent.copy(grid);
    await waitFor(() => expect(text).toHaveBeenCalledWith('Zone 1\tholding 0\nZone 2\tholding 2'));
    vi.unstubAllGlobals();
  });
});

it('fetches what a long fill needs beyond what is drawn', async () => {
  await sheet(1200);
  await keys('{Control>}d{/Control}');
  await waitFor(() => expect(saved.flat()).toHaveLength(1200));
  expect(saved.flat().at(-1)).toMatchObject({ row: { id: 'r1199' }, text: 'Zone 1', was: 'Zone 1200' });
});

it('goes back to a row that was written, however far it is away', async () => {
  const grid = await sheet(1200);
  await keys('{ArrowRight}{Control>}{End}{/Control}{ArrowUp}{ArrowLeft}{ArrowLeft}');
  paste(grid, 'holding 7');
  await waitFor(() => expect(saved.flat()).toEqual([expect.objectContaining({ row: expect.objectContaining({ id: 'r1199' }) })]));
  await keys('{Control>}{Home}{/Control}');
  act(() => handle.current?.reach('r1199', 'address'));
  expect(grid.getAttribute('aria-activedescendant')).toMatch(/-1199-1$/);
});

it('tells what is wrong at its cell', async () => {
  await sheet(2, true, new Map([[cellName('r1', 'address'), { message: 'Tags “A” and “B” share it.' }]]));
  const cell = screen.getByText('holding 2');
  expect([cell.getAttribute('aria-invalid'), cell.title]).toEqual(['true', 'Tags “A” and “B” share it.']);
});

it('lets nobody write who may not', async () => {
  const grid = await sheet(2, false);
  await keys('x{Delete}{Control>}d{/Control}');
  paste(grid, 'Pump');
  await new Promise((done) => setTimeout(done, 0));
  expect(saved).toEqual([]);
  expect(screen.queryByText('New tag…')).toBeNull();
});
