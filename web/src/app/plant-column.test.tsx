import { QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { Spot } from '../api/places';
import { pathOf } from '../api/tree';

vi.mock('../api/live', () => ({ useStatus: () => null }));
const gone = vi.fn();
vi.mock('./view', () => ({ useGo: () => gone, useView: () => ({}) }));

interface Edit {
  op: string;
  id: string;
  set?: Partial<Spot>;
}

const plant: { revision: number; places: Map<string, Spot>; since: { revision: number; ids: string[] }[]; refuse: boolean } = {
  revision: 1,
  places: new Map(),
  since: [],
  refuse: false,
};
const done: { why: string; edits: Edit[] }[] = [];

/** The server, as far as the column needs one: a tree, and one door for edits. */
vi.mock('openapi-fetch', () => {
  const answer = (data: unknown) => ({ data, response: new Response(null, { status: 200 }) });
  const get = async (path: string, options?: { params?: { query?: { since?: number } } }) => {
    if (path === '/api/session') return answer({ signed_in: true, needs_first: false, name: 'Shift lead', role: 'engineer' });
    if (path === '/api/alarms') return answer({ alarms: [] });
    if (path === '/api/by-hand') return answer([]);
    const since = options?.params?.query?.since;
    const ids = new Set(plant.since.filter((s) => since !== undefined && s.revision > since).flatMap((s) => s.ids));
    const places = [...plant.places.values()].filter((p) => since === undefined || ids.has(p.id));
    return answer({
      revision: plant.revision,
      whole: since === undefined,
      places,
      gone: [...ids].filter((id) => !plant.places.has(id)),
    });
  };
  const post = async (_: string, { body }: { body: { why: string; edits: Edit[] } }) => {
    if (plant.refuse)
      return {
        error: { title: 'Conflict', status: 409, detail: 'Somebody else moved it.' },
        response: new Response(null, { status: 409 }),
      };
    done.push(body);
    plant.revision += 1;
    for (const { op, id, set } of body.edits) {
      if (op === 'delete') plant.places.delete(id);
      else plant.places.set(id, { ...(plant.places.get(id) ?? spot(id, null, 0)), ...set } as Spot);
    }
    plant.since.push({ revision: plant.revision, ids: body.edits.map((e) => e.id) });
    return answer({ revision: plant.revision });
  };
  return { default: () => ({ GET: get, POST: post }) };
});

const { queries } = await import('../api/queries');
const { PlantColumn } = await import('./plant-column');

function spot(id: string, parent: string | null, order: number): Spot {
  return { id, parent, name: id, level: 'unit', order, in_service: true, one: false, part: false };
}

const places = [
  spot('Landing', null, 1),
  spot('Wash', 'Landing', 1),
  spot('Grinder', 'Landing', 2),
  spot('Extraction', null, 2),
  spot('EX-1', 'Extraction', 1),
  spot('EX-2', 'Extraction', 2),
];

beforeEach(() => {
  queries.clear();
  localStorage.clear();
  // A page never sees a revision twice.
  Object.assign(plant, { places: new Map(places.map((p) => [p.id, p])), since: [], refuse: false });
  done.length = 0;
  gone.mockClear();
  // What has no layout has no size.
  vi.spyOn(Element.prototype, 'clientHeight', 'get').mockReturnValue(600);
});
afterEach(() => {
  cleanup();
  vi.restoreAllMocks();
});

const rows = () =>
  screen.getAllByRole('treeitem').map((row) => `${row.getAttribute('aria-level')} ${row.getAttribute('aria-label')}`);
const keys = (text: string) => userEvent.keyboard(text);
const onServer = () => {
  const byId = plant.places;
  return [...byId.values()].map((p) => pathOf({ revision: 1, byId, top: [] }, p.id)).sort();
};

/** Shows the column with the cursor on a place. */
async function column(at = 'Landing') {
  render(
    <QueryClientProvider client={queries}>
      <PlantColumn />
    </QueryClientProvider>,
  );
  await userEvent.click(within(await screen.findByRole('treeitem', { name: at })).getByText(at));
  gone.mockClear();
}

describe('by keys alone', () => {
  it('goes through the tree, opens and closes, and chooses', async () => {
    await column();
    expect(rows()).toEqual(['1 Landing', '2 Wash', '2 Grinder', '1 Extraction', '2 EX-1', '2 EX-2']);
    await keys('{ArrowLeft}');
    expect(rows()).toEqual(['1 Landing', '1 Extraction', '2 EX-1', '2 EX-2']);
    await keys('{ArrowDown}{ArrowRight}{Enter}');
    expect(gone).toHaveBeenLastCalledWith({ at: 'EX-1' });
    await keys('{ArrowLeft}{ArrowLeft}');
    expect(rows()).toEqual(['1 Landing', '1 Extraction']);
  });

  it('moves a place among its siblings, out and in, and sees it there before the server has said so', async () => {
    await column('Grinder');
    await keys('{Alt>}{ArrowUp}{/Alt}');
    expect(rows().slice(0, 3)).toEqual(['1 Landing', '2 Grinder', '2 Wash']);
    await waitFor(() => expect(done[0]?.why).toBe('Moved Landing/Grinder to Landing'));
    await keys('{Alt>}{ArrowLeft}{/Alt}');
    expect(rows()).toContain('1 Grinder');
    await waitFor(() => expect(onServer()).toContain('Grinder'));
    await keys('{Alt>}{ArrowRight}{/Alt}');
    await waitFor(() => expect(onServer()).toContain('Landing/Grinder'));
  });

  it('puts back what the server refuses to move', async () => {
    await column('EX-2');
    plant.refuse = true;
    await keys('{Alt>}{ArrowUp}{/Alt}');
    await waitFor(() => expect(rows()).toEqual(['1 Landing', '2 Wash', '2 Grinder', '1 Extraction', '2 EX-1', '2 EX-2']));
    expect(done).toEqual([]);
  });

  it('cuts several and pastes them elsewhere as one change', async () => {
    await column('EX-1');
    await keys('{Shift>}{ArrowDown}{/Shift}{Control>}x{/Control}{Home}{Control>}v{/Control}');
    await waitFor(() =>
      expect(onServer()).toEqual(['Extraction', 'Landing', 'Landing/EX-1', 'Landing/EX-2', 'Landing/Grinder', 'Landing/Wash']),
    );
    expect(done).toHaveLength(1);
  });

  it('renames where it stands, once, and Escape leaves it', async () => {
    await column('Wash');
    await keys('{F2}');
    await keys('Washing{Enter}');
    await waitFor(() => expect(rows()).toContain('2 Washing'));
    expect(done.map((d) => d.why)).toEqual(['Renamed Landing/Wash to Washing']);
    await keys('{F2}Nothing{Escape}');
    expect(rows()).toContain('2 Washing');
    expect(done).toHaveLength(1);
  });

  it('makes a place under another, a level below it, behind its siblings', async () => {
    await column('Extraction');
    await keys('{Insert}EX-3{Enter}');
    await waitFor(() => expect(onServer()).toContain('Extraction/EX-3'));
    expect(done[0]?.edits[0]?.set).toMatchObject({ level: 'equipment', order: 3, parent: 'Extraction' });
    await waitFor(() => expect(rows().at(-1)).toBe('2 EX-3'));
  });
});

it('finds places where they stand, and keeps the one that was chosen in sight afterwards', async () => {
  await column();
  await userEvent.type(screen.getByLabelText('Find a place'), 'ex-2');
  expect(rows()).toEqual(['1 Extraction', '2 EX-2']);
  await userEvent.click(screen.getByText('EX-2'));
  expect(gone).toHaveBeenLastCalledWith({ at: 'EX-2' });
  await userEvent.clear(screen.getByLabelText('Find a place'));
  expect(rows()).toHaveLength(6);
  await userEvent.type(screen.getByLabelText('Find a place'), 'valve');
  expect(screen.getByText('No place has “valve” in its name.')).toBeTruthy();
});

it('takes in what somebody else changed', async () => {
  await column();
  plant.revision += 1;
  plant.places.set('EX-3', spot('EX-3', 'Extraction', 3));
  plant.since.push({ revision: plant.revision, ids: ['EX-3'] });
  const { configurationMoved } = await import('../api/queries');
  await configurationMoved(plant.revision);
  await waitFor(() => expect(rows().at(-1)).toBe('2 EX-3'));
});
