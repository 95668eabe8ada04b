import { QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import type { Item } from '../api/model';

vi.mock('../api/live', () => ({ useValue: () => ({ no: 1, value: 62.5, quality: 'good' }), feed: {} }));

const answer: { status: number; body: unknown } = { status: 200, body: {} };
const written: unknown[] = [];
let role = 'operator';

/** The server, as far as a write needs one. */
vi.mock('openapi-fetch', () => ({
  default: () => ({
    GET: async (path: string) => ({
      data:
        path === '/api/session' ? { signed_in: true, needs_first: false, name: 'Shift lead', role } : { units: [], items: [] },
      response: new Response(null, { status: 200 }),
    }),
    POST: async (_: string, { body }: { body: { value: unknown } }) => {
      written.push(body.value);
      const response = new Response(null, { status: answer.status });
      return answer.status < 400 ? { data: answer.body, response } : { error: answer.body, response };
    },
  }),
}));

const { queries } = await import('../api/queries');
const { outOfRange, WriteRow } = await import('./write');

type Tag = Item<'tag'>;

function tag(holds: string, more: Partial<Tag['set']> = {}): Tag {
  const set = {
    name: 'Setpoint',
    unit: '°C',
    decimals: 1,
    range_low: 0,
    range_high: 120,
    write_low: null,
    write_high: null,
    states: null,
  };
  return {
    id: 't',
    no: 1,
    revision: 1,
    title: 'EX-1/Setpoint',
    source: '',
    holds,
    recorded: true,
    set: { ...set, ...more } as Tag['set'],
  };
}

async function show(of: Tag, writing = true) {
  render(
    <QueryClientProvider client={queries}>
      <WriteRow tag={of} writing={writing} />
    </QueryClientProvider>,
  );
  await waitFor(() => expect(queries.isFetching()).toBe(0));
}

beforeEach(() => {
  queries.clear();
  written.length = 0;
  role = 'operator';
  Object.assign(answer, { status: 200, body: { value: 64 } });
});
afterEach(cleanup);

describe('outOfRange', () => {
  it.each([
    [50, {}, undefined],
    [121, {}, 'It must lie between 0 and 120 °C.'],
    [-1, {}, 'It must lie between 0 and 120 °C.'],
    // What may be written counts more than what is shown.
    [95, { write_low: 20, write_high: 90 }, 'It must lie between 20 and 90 °C.'],
    [1e9, { range_low: null, range_high: null }, undefined],
    [-5, { range_high: null }, 'It must lie between 0 and ∞ °C.'],
    ['much', {}, 'Type a number.'],
    ['Running', { states: 's' }, undefined],
  ])('%s with %j', (value, more, words) => {
    expect(outOfRange(value, tag('f64', more as Partial<Tag['set']>))).toBe(words);
  });

  it('leaves texts to the device', () => {
    expect(outOfRange('anything', tag('text'))).toBeUndefined();
  });
});

describe('a write', () => {
  it('is confirmed with what stands there now, sent once, and told as it is read back', async () => {
    await show(tag('f64'));
    await userEvent.type(screen.getByLabelText('New value, °C'), '64{Enter}');
    expect(screen.getByRole('heading', { name: 'Write 64.0 °C to Setpoint?' })).toBeTruthy();
    expect(screen.getByText('62.5 °C')).toBeTruthy();
    expect(written).toEqual([]);
    await userEvent.click(screen.getByRole('button', { name: 'Write 64.0 °C' }));
    expect((await screen.findByRole('status')).textContent).toBe('Written; the device now holds 64.0 °C.');
    expect(written).toEqual([64]);
    expect(screen.getByLabelText('New value, °C')).toHaveProperty('value', '');
  });

  it('that is out of range goes nowhere', async () => {
    await show(tag('f64'));
    await userEvent.type(screen.getByLabelText('New value, °C'), '1200{Enter}');
    expect(screen.getByText('It must lie between 0 and 120 °C.')).toBeTruthy();
    expect(screen.queryByRole('alertdialog') ?? screen.queryByRole('dialog')).toBeNull();
    expect(screen.getByLabelText('New value, °C')).toHaveProperty('value', '1200');
  });

  it('that is refused says why at its field, and keeps what was typed', async () => {
    Object.assign(answer, { status: 422, body: { title: 'Refused', status: 422, detail: 'The device is in local mode.' } });
    await show(tag('f64'));
    await userEvent.type(screen.getByLabelText('New value, °C'), '64{Enter}');
    await userEvent.click(screen.getByRole('button', { name: 'Write 64.0 °C' }));
    await screen.findByText('The device is in local mode.');
    expect(screen.queryByRole('status')).toBeNull();
    expect(screen.getByLabelText('New value, °C')).toHaveProperty('value', '64');
    expect(written).toEqual([64]);
  });

  it('of a switch needs no typing, and is confirmed all the same', async () => {
    Object.assign(answer, { body: { value: true } });
    await show(tag('bool', { unit: '' }));
    await userEvent.click(screen.getByRole('button', { name: 'On' }));
    expect(written).toEqual([]);
    await userEvent.click(screen.getByRole('button', { name: 'Switch on' }));
    await waitFor(() => expect(written).toEqual([true]));
  });

  it.each([
    ['viewer', true, 'Writing needs the role operator.'],
    ['operator', false, 'Writing is switched off for this connection.'],
  ])('is not offered to a %s where writing is %s', async (who, writing, words) => {
    role = who;
    await show(tag('f64'), writing);
    expect(screen.getByText(words)).toBeTruthy();
    expect(screen.getByLabelText('New value, °C')).toHaveProperty('disabled', true);
  });
});
