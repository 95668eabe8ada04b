// Forms: what was typed is kept until it was taken, and each message stands at its field.

import { useEffect, useState } from 'react';
import { toast } from 'sonner';
import { Refused, type Wrong } from '../api/client';
import { draftOf, keepDraft } from './draft';

export interface Form<T> {
  values: T;
  set: <F extends keyof T>(field: F, value: T[F]) => void;
  reset: (values: T) => void;
  dirty: boolean;
  /** What was typed before the form was left is back, and not saved yet. */
  restored: boolean;
  /** Takes back what was typed. */
  discard: () => void;
  busy: boolean;
  /** The sentence for a field, under any of its names on the server. */
  error: (...names: string[]) => string | undefined;
  /** What somebody else has set a field to while it was changed here, in words; the field keeps what was typed. */
  theirs: (field: keyof T) => string | undefined;
  /** Puts what somebody else has set a field to in the place of what was typed. */
  takeTheirs: (field: keyof T) => void;
  /** Only the fields that were changed. */
  changed: () => Partial<T>;
  /** What the server said of each edit and field. */
  problems: Wrong[];
  /** What no field of this form is to blame for. */
  other: string | undefined;
  /** Runs what takes the form in; gives whether it was taken. */
  run: (task: (values: T) => Promise<unknown>) => Promise<boolean>;
  /** Runs what only looks at the form: nothing is taken in by it. */
  probe: (task: (values: T) => Promise<unknown>) => Promise<boolean>;
}

interface Ways<T> {
  /** The form stays open while `initial` changes elsewhere. */
  follow?: boolean;
  /** What is typed is kept under this name until it is saved, wherever one goes meanwhile. */
  draft?: string;
  /** Fields that are never written down. */
  secret?: readonly (keyof T)[];
}

/** A form over `initial`; `fields` are the server's names of fields it shows, so that other messages are not lost. */
export function useForm<T extends object>(
  initial: T,
  fields: readonly string[] = Object.keys(initial),
  { follow = false, draft, secret = [] }: Ways<T> = {},
): Form<T> {
  const [values, setValues] = useState<T>(() => ({
    ...initial,
    ...((draft ? draftOf(draft) : undefined) as Partial<T> | undefined),
  }));
  const [restored, setRestored] = useState(() => draft !== undefined && draftOf(draft) !== undefined);
  const [start, setStart] = useState(initial);
  const [others, setOthers] = useState<Partial<T>>({});
  const [error, setError] = useState<Refused | null>(null);
  const [busy, setBusy] = useState(false);
  // What somebody else changes comes in; where it was changed here too, both are kept apart.
  const given = JSON.stringify(initial);
  const [seen, setSeen] = useState(given);
  if (follow && given !== seen) {
    setSeen(given);
    const fields = Object.keys(initial) as (keyof T)[];
    const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);
    const moved = fields.filter((f) => !same(initial[f], start[f]));
    const mine = moved.filter((f) => !same(values[f], start[f]) && !same(values[f], initial[f]));
    const taken = Object.fromEntries(moved.filter((f) => !mine.includes(f)).map((f) => [f, initial[f]]));
    setValues({ ...values, ...taken });
    setStart(initial);
    setOthers({ ...others, ...Object.fromEntries(mine.map((f) => [f, initial[f]])) });
  }
  const attempt = async (task: (values: T) => Promise<unknown>, done: () => void) => {
    setBusy(true);
    try {
      await task(values);
      setError(null);
      done();
      return true;
    } catch (reason) {
      setError(reason instanceof Refused ? reason : new Refused(0, reason instanceof Error ? reason.message : String(reason)));
      return false;
    } finally {
      setBusy(false);
    }
  };
  const changed = () => {
    const own = (Object.keys(values) as (keyof T)[]).filter((f) => JSON.stringify(values[f]) !== JSON.stringify(start[f]));
    return Object.fromEntries(own.map((f) => [f, values[f]])) as Partial<T>;
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: what was changed follows from these
  useEffect(() => {
    if (draft === undefined) return;
    const kept = Object.entries(changed()).filter(([field]) => !secret.includes(field as keyof T));
    keepDraft(draft, kept.length > 0 ? Object.fromEntries(kept) : undefined);
  }, [draft, values, start]);
  // At once: what was saved or discarded usually closes the form, and then no effect runs any more.
  const drop = () => draft !== undefined && keepDraft(draft, undefined);
  const known = (field: string) => fields.includes(field);
  const foreign = error?.problems.filter((p) => !known(p.field)) ?? [];
  return {
    values,
    busy,
    problems: error?.problems ?? [],
    theirs: (field) => {
      if (!(field in others)) return undefined;
      const theirs = others[field];
      const text = typeof theirs === 'object' && theirs !== null ? undefined : String(theirs ?? '');
      const what =
        text === undefined ? 'Somebody else has changed this' : `Somebody else has set this to ${text ? `“${text}”` : 'nothing'}`;
      return `${what} meanwhile; saving replaces it with yours.`;
    },
    takeTheirs: (field) => {
      const { [field]: theirs, ...rest } = others;
      setValues((old) => ({ ...old, [field]: theirs }));
      setOthers(rest as Partial<T>);
    },
    changed,
    dirty: JSON.stringify(values) !== JSON.stringify(start),
    restored: restored && JSON.stringify(values) !== JSON.stringify(start),
    discard: () => {
      drop();
      setValues(start);
      setRestored(false);
      setError(null);
    },
    set: (field, value) => setValues((old) => ({ ...old, [field]: value })),
    reset: (next) => {
      setValues(next);
      setStart(next);
      setOthers({});
      setError(null);
    },
    error: (...names) => names.map((n) => error?.field(n)).find(Boolean),
    other: foreign[0]?.message ?? (error && error.problems.length === 0 ? error.message : undefined),
    run: (task) =>
      attempt(task, () => {
        drop();
        setOthers({});
        setStart(values);
        setRestored(false);
      }),
    probe: (task) => attempt(task, () => undefined),
  };
}

/**
 * Text of a field as a number: nothing typed is null. What is not a number goes to the server as text, to be refused there, and so
 * does a whole number of which digits would be lost.
 */
export function numberOf(text: string): number | null {
  const trimmed = text.trim().replace(',', '.');
  if (trimmed === '') return null;
  const number = Number(trimmed);
  const lost = /^-?\d{16,}$/.test(trimmed) && BigInt(number) !== BigInt(trimmed) && String(number) !== trimmed;
  return Number.isNaN(number) || lost ? (trimmed as unknown as number) : number;
}

export const textOf = (value: number | null | undefined) => (value === null || value === undefined ? '' : String(value));

/** Tells what went wrong where no form can. */
export function complain(error: unknown) {
  toast.error(error instanceof Error ? error.message : String(error));
}
