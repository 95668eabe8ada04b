import { cleanup, render, screen } from '@testing-library/react';
import { Tooltip } from 'radix-ui';
import { afterEach, expect, it, vi } from 'vitest';
import type { LiveValue } from '../api/live';

const NOW = Date.parse('2026-11-23T06:00:10Z');
let current: LiveValue | undefined;
vi.mock('../api/live', () => ({ useValue: () => current, useNow: () => NOW }));
const { Value } = await import('./value');
const { learnChanging } = await import('./reading');
const { Pips } = await import('./pips');

afterEach(cleanup);

const value = (more: Partial<LiveValue>): LiveValue => ({
  no: 1,
  value: 84.64 as unknown as LiveValue['value'],
  time: '2026-11-23T06:00:09.5Z',
  quality: 'good',
  reason: 'good',
  told: '2026-11-23T06:00:09.5Z',
  ...more,
});

function text(given: LiveValue | undefined, connection?: string): string {
  current = given;
  const { container } = render(
    <Tooltip.Provider>
      <Value no={1} set={{ unit: '°C', decimals: 1, connection }} />
    </Tooltip.Provider>,
  );
  return container.textContent ?? '';
}

it('prints a good value with its unit and nothing else', () => {
  expect(text(value({}))).toBe('84.6°C');
});

it('marks a bad value with its reason and age and keeps the last', () => {
  expect(text(value({ quality: 'bad', reason: 'no answer from the device', time: '2026-11-23T05:58:10Z' }))).toBe(
    '2 min old⨯84.6°C',
  );
  expect(screen.getByRole('button', { name: 'bad: no answer from the device' })).toBeTruthy();
});

it('shows no age of a good value that would have been sent if it had changed', () => {
  const old = value({ time: '2026-11-23T05:58:10Z' });
  expect(text(old, 'c1')).toBe('2 min old84.6°C');
  learnChanging(['c1']);
  expect([text(old, 'c1'), text(old, 'c2')]).toEqual(['84.6°C', '2 min old84.6°C']);
  expect(text({ ...old, quality: 'bad' }, 'c1')).toBe('2 min old⨯84.6°C');
});

it('marks an uncertain value, and shows the age only once it is old', () => {
  expect(text(value({ quality: 'uncertain', reason: 'outside its scaled range', time: '2026-11-23T06:00:08Z' }))).toBe('~84.6°C');
});

it('shows that nothing has come yet', () => {
  expect(text(undefined)).toBe('…');
  expect(text(value({ value: null as unknown as LiveValue['value'], time: '', quality: 'bad', reason: 'not read yet' }))).toBe(
    '⨯–°C',
  );
});

it('tells priority and state to whoever cannot see the pips', () => {
  render(<Pips priority={4} state="returned_unacknowledged" />);
  expect(screen.getByRole('img').getAttribute('aria-label')).toBe('priority 4, act now, returned, not acknowledged');
});
