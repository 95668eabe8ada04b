import { act, cleanup, renderHook } from '@testing-library/react';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { draftOf, dropDrafts, keepDraft, useDraft } from './draft';
import { useForm } from './form';
import { useSteps } from './steps';

beforeEach(() => dropDrafts(`somebody ${Math.random()}`));
afterEach(cleanup);

const form = () => renderHook(() => useForm({ name: 'EX-1', key: '' }, undefined, { draft: 'place 1', secret: ['key'] }));

describe('what is typed in a form', () => {
  it('is there again when the form is opened anew, and is said to be unsaved', () => {
    const first = form();
    act(() => first.result.current.set('name', 'EX-9'));
    first.unmount();
    const again = form();
    expect([again.result.current.values.name, again.result.current.restored]).toEqual(['EX-9', true]);
    act(() => again.result.current.discard());
    expect([again.result.current.values.name, again.result.current.restored]).toEqual(['EX-1', false]);
    expect(draftOf('place 1')).toBeUndefined();
  });

  it('is forgotten once it is saved, even where saving closes the form', async () => {
    const { result, unmount } = form();
    act(() => result.current.set('name', 'EX-9'));
    await act(async () => {
      await result.current.run(async () => undefined);
      unmount();
    });
    expect(draftOf('place 1')).toBeUndefined();
  });

  it('is never written down where it is secret', () => {
    const { result } = form();
    act(() => result.current.set('key', '-----BEGIN'));
    expect(draftOf('place 1')).toBeUndefined();
  });
});

it('belongs to whoever typed it', () => {
  dropDrafts('Plant engineer');
  keepDraft('note', 'greased');
  dropDrafts('Plant engineer');
  expect(draftOf('note')).toBe('greased');
  dropDrafts('Shift lead');
  expect(draftOf('note')).toBeUndefined();
});

it('outlasts a reload as text of this tab', () => {
  keepDraft('note', { text: 'greased' });
  dispatchEvent(new Event('pagehide'));
  expect(sessionStorage.getItem('havrel.draft.note')).toBe('{"text":"greased"}');
  const { result } = renderHook(() => useDraft('note', { text: '' }));
  expect(result.current[0]).toEqual({ text: 'greased' });
});

it('makes the browser ask where it is too long to be stored', () => {
  keepDraft('note', 'x'.repeat(2_000_000));
  const leaving = new Event('beforeunload', { cancelable: true });
  dispatchEvent(leaving);
  expect(leaving.defaultPrevented).toBe(true);
});

it('is taken back step by step, whatever the step was', () => {
  const { result } = renderHook(() => useSteps<string>('rows'));
  const step = (next: string[], name?: string) => act(() => result.current.step(() => next, name));
  step(['a']);
  step(['ab'], 'cell');
  step(['abc'], 'cell');
  step([]);
  const undo = () => act(() => result.current.undo());
  undo();
  expect(result.current.list).toEqual(['abc']);
  // Letters typed into one cell are one step.
  undo();
  expect(result.current.list).toEqual(['a']);
  act(() => result.current.redo());
  expect(result.current.list).toEqual(['abc']);
});
