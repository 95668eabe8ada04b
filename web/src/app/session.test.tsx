import { QueryClientProvider } from '@tanstack/react-query';
import { cleanup, render, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, beforeEach, expect, it, vi } from 'vitest';

vi.mock('../api/live', () => ({ feed: { start: vi.fn(), stop: vi.fn() } }));

/** The server, as far as the door needs one. */
vi.mock('openapi-fetch', () => {
  const call = (method: string) => async (path: string, options?: { body?: unknown }) => {
    asked.push({ method, path, body: options?.body });
    const { status, body } = answers[`${method} ${path}`] ?? { status: 404, body: {} };
    const response = new Response(null, { status });
    return status < 400 ? { data: body, response } : { error: body, response };
  };
  return { default: () => ({ GET: call('GET'), POST: call('POST'), DELETE: call('DELETE') }) };
});

interface Answer {
  status: number;
  body: unknown;
}
const answers: Record<string, Answer> = {};
const asked: { method: string; path: string; body: unknown }[] = [];

const { queries } = await import('../api/queries');
const { SignedIn } = await import('./session');

beforeEach(() => {
  queries.clear();
  asked.length = 0;
});
afterEach(cleanup);

const show = () =>
  render(
    <QueryClientProvider client={queries}>
      <SignedIn>
        <p>the plant</p>
      </SignedIn>
    </QueryClientProvider>,
  );

const nobody = { signed_in: false, needs_first: false, name: '', role: '' };

it('lets whoever is signed in through', async () => {
  answers['GET /api/session'] = { status: 200, body: { ...nobody, signed_in: true, name: 'Shift lead', role: 'operator' } };
  show();
  expect(await screen.findByText('the plant')).toBeTruthy();
});

it('keeps what was typed and tells what is wrong at its field', async () => {
  answers['GET /api/session'] = { status: 200, body: { ...nobody, needs_first: true } };
  const problem = {
    detail: 'A password has at least 8 characters.',
    problems: [{ edit: 0, field: 'password', message: 'A password has at least 8 characters.' }],
  };
  answers['POST /api/session/first'] = { status: 422, body: problem };
  show();
  const user = userEvent.setup();
  await user.type(await screen.findByLabelText('Name'), 'Plant engineer');
  await user.type(screen.getByLabelText('Password'), 'short');
  await user.click(screen.getByRole('button', { name: 'Create account' }));
  await waitFor(() => expect(screen.getByLabelText('Password').getAttribute('aria-invalid')).toBe('true'));
  expect(screen.getByLabelText('Name')).toHaveProperty('value', 'Plant engineer');
  expect(asked.at(-1)).toMatchObject({ path: '/api/session/first', body: { name: 'Plant engineer', password: 'short' } });
});

it('shows the plant once the door has opened, without asking again', async () => {
  answers['GET /api/session'] = { status: 200, body: nobody };
  answers['POST /api/session'] = { status: 200, body: { ...nobody, signed_in: true, name: 'Shift lead', role: 'operator' } };
  show();
  const user = userEvent.setup();
  await user.type(await screen.findByLabelText('Name'), 'Shift lead');
  await user.type(screen.getByLabelText('Password'), 'kelp-and-salt{Enter}');
  expect(await screen.findByText('the plant')).toBeTruthy();
  expect(asked.filter((a) => a.method === 'GET')).toHaveLength(1);
});
