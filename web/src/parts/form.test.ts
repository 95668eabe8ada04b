// @vitest-environment jsdom
import { act, renderHook } from '@testing-library/react';
import { expect, it } from 'vitest';
import { useForm } from './form';

const show = (initial: { unit: string; note: string; high: number | null }) =>
  renderHook((props) => useForm(props, undefined, { follow: true }), { initialProps: initial });

it('takes in what somebody else changes, and keeps what was typed apart from it', () => {
  const form = show({ unit: '%', note: '', high: 1 });
  act(() => form.result.current.set('unit', 'mm'));
  form.rerender({ unit: 'cm', note: 'theirs', high: 1 });
  expect(form.result.current.values).toEqual({ unit: 'mm', note: 'theirs', high: 1 });
  expect(form.result.current.theirs('unit')).toContain('“cm”');
  expect(form.result.current.theirs('note')).toBeUndefined();
  expect(form.result.current.changed()).toEqual({ unit: 'mm' });
  expect(form.result.current.dirty).toBe(true);
  act(() => form.result.current.takeTheirs('unit'));
  expect(form.result.current.values.unit).toBe('cm');
  expect([form.result.current.theirs('unit'), form.result.current.dirty]).toEqual([undefined, false]);
});

it('has nothing to tell where both wrote the same, or after it was saved', async () => {
  const form = show({ unit: '%', note: '', high: 1 });
  act(() => form.result.current.set('unit', 'mm'));
  form.rerender({ unit: 'mm', note: '', high: 1 });
  expect([form.result.current.theirs('unit'), form.result.current.dirty]).toEqual([undefined, false]);
  act(() => form.result.current.set('high', 2));
  form.rerender({ unit: 'mm', note: '', high: null });
  expect(form.result.current.theirs('high')).toContain('nothing');
  await act(() => form.result.current.run(async () => undefined));
  expect(form.result.current.theirs('high')).toBeUndefined();
});

it('takes nothing as saved that was only looked at', async () => {
  const form = show({ unit: '%', note: '', high: 1 });
  act(() => form.result.current.set('unit', 'mm'));
  const seen: string[] = [];
  await act(() => form.result.current.probe(async ({ unit }) => seen.push(unit)));
  expect([seen, form.result.current.dirty]).toEqual([['mm'], true]);
  await act(() => form.result.current.probe(() => Promise.reject(new Error('It does not answer.'))));
  expect([form.result.current.other, form.result.current.dirty]).toEqual(['It does not answer.', true]);
  await act(() => form.result.current.run(async () => undefined));
  expect([form.result.current.other, form.result.current.dirty]).toEqual([undefined, false]);
});
