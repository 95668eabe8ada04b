import { QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';

const gone = vi.fn();
vi.mock('./view', () => ({ useGo: () => gone }));
vi.mock('./session', () => ({ signOut: vi.fn() }));

const PLANT = [
  { kind: 'place', id: 'p1', title: 'Brackmere Kelp Works/Extraction/EX-1' },
  { kind: 'tag', id: 't1', title: 'Brackmere Kelp Works/Extraction/EX-1/Level' },
  { kind: 'connection', id: 'c1', title: 'Extraction' },
  { kind: 'report', id: 'r1', title: 'Levels of the night' },
];
/** Answers wait until they are let go. */
let hold = false;
const waiting: (() => void)[] = [];

vi.mock('openapi-fetch', () => ({
  default: () => ({
    GET: async (path: string, options?: { params: { query: { text: string } } }) => {
      const response = new Response(null, { status: 200 });
      if (path === '/api/session') return { data: { signed_in: true, demo: true, role: 'viewer' }, response };
      if (hold) await new Promise<void>((go) => waiting.push(go));
      const words = options?.params.query.text.toLowerCase().split(' ') ?? [];
      const found = PLANT.filter((hit) => words.every((w) => hit.title.toLowerCase().includes(w)));
      return { data: { total: found.length && found.length + 40, found }, response };
    },
  }),
}));

const { queries } = await import('../api/queries');
const { fitting, Palette } = await import('./palette');

const closed = vi.fn();
const onKeys = vi.fn();

function show() {
  render(
    <QueryClientProvider client={queries}>
      <Palette open onClose={closed} onKeys={onKeys} />
    </QueryClientProvider>,
  );
}

beforeEach(() => {
  queries.clear();
  hold = false;
  vi.clearAllMocks();
  // Nothing is laid out here.
  vi.stubGlobal(
    'ResizeObserver',
    class {
      observe() {}
      unobserve() {}
      disconnect() {}
    },
  );
  Element.prototype.scrollIntoView = () => undefined;
});
afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

it.each([
  ['', ['Board', 'Night theme']],
  ['dark', ['Night theme']],
  ['THEME night', ['Night theme']],
  ['boards', []],
])('“%s” fits', (text, names) => {
  const actions = [
    { name: 'Board', words: 'desk' },
    { name: 'Night theme', words: 'dark colours' },
  ];
  expect(fitting(actions, text).map((a) => a.name)).toEqual(names);
});

describe('by keyboard alone', () => {
  it.each([
    ['ex-1{Enter}', [{ at: 'p1' }]],
    ['ex-1 level{Enter}', [{ tag: 't1' }]],
    ['night lev{Enter}', [{ report: 'r1' }, '/reports']],
    ['alarms{Enter}', [{}, '/alarms']],
    ['faults{Enter}', [{}, '/faults']],
  ])('%s goes there', async (typed, wanted) => {
    show();
    await screen.findByText('Demo faults');
    const [letters = ''] = typed.split('{');
    await userEvent.type(screen.getByRole('combobox'), letters);
    await waitFor(() => expect(queries.isFetching()).toBe(0));
    await userEvent.keyboard('{Enter}');
    expect(gone).toHaveBeenCalledWith(...wanted);
    expect(closed).toHaveBeenCalledTimes(1);
  });

  it('goes down to the next, and says how many more there are', async () => {
    show();
    await userEvent.type(screen.getByRole('combobox'), 'extraction');
    expect(await screen.findByText('and 40 more; type another word of the path')).toBeTruthy();
    await userEvent.keyboard('{ArrowDown}{Enter}');
    expect(gone).toHaveBeenCalledWith({ tag: 't1' });
  });

  it('takes the best of what is found, also where that comes after the last letter', async () => {
    show();
    hold = true;
    await userEvent.type(screen.getByRole('combobox'), 'level');
    expect(screen.getByText('Looking …')).toBeTruthy();
    hold = false;
    for (const go of waiting.splice(0)) go();
    await screen.findByText('Level');
    await userEvent.keyboard('{Enter}');
    expect(gone).toHaveBeenCalledWith({ tag: 't1' });
  });

  it('says so where nothing is called that', async () => {
    show();
    await userEvent.type(screen.getByRole('combobox'), 'zzz');
    expect(await screen.findByText(/^No match/)).toBeTruthy();
    await userEvent.keyboard('{Enter}');
    expect(gone).not.toHaveBeenCalled();
  });
});
