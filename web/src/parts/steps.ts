// A list that is worked on in steps, each of which can be taken back, whatever it was; kept as a draft meanwhile.

import { useCallback, useRef } from 'react';
import { useDraft } from './draft';

/** Steps that can be taken back. */
const MOST = 100;

export interface Steps<T> {
  list: readonly T[];
  /** Makes a step. Steps one after the other with the same name are one, such as letters typed into one cell. */
  step: (next: (list: readonly T[]) => readonly T[], name?: string) => void;
  undo: () => void;
  redo: () => void;
  canUndo: boolean;
  canRedo: boolean;
  /** Ends it: nothing is left to take back. */
  clear: () => void;
}

const NOTHING: readonly never[] = [];

export function useSteps<T>(draft: string): Steps<T> {
  const [list, setList] = useDraft<readonly T[]>(draft, NOTHING);
  const past = useRef<(readonly T[])[]>([]);
  const future = useRef<(readonly T[])[]>([]);
  const last = useRef<string | undefined>(undefined);
  const now = useRef(list);
  now.current = list;
  const show = useCallback(
    (next: readonly T[]) => {
      now.current = next;
      setList(next.length === 0 ? NOTHING : next);
    },
    [setList],
  );
  const step = useCallback(
    (next: (list: readonly T[]) => readonly T[], name?: string) => {
      const after = next(now.current);
      if (after === now.current) return;
      if (name === undefined || name !== last.current) past.current = [...past.current.slice(1 - MOST), now.current];
      last.current = name;
      future.current = [];
      show(after);
    },
    [show],
  );
  const move = (from: typeof past, to: typeof past) => {
    const next = from.current.at(-1);
    if (next === undefined) return;
    from.current = from.current.slice(0, -1);
    to.current = [...to.current, now.current];
    last.current = undefined;
    show(next);
  };
  return {
    list,
    step,
    undo: () => move(past, future),
    redo: () => move(future, past),
    canUndo: past.current.length > 0,
    canRedo: future.current.length > 0,
    clear: () => {
      past.current = [];
      future.current = [];
      last.current = undefined;
      show(NOTHING);
    },
  };
}
