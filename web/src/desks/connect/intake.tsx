// Where found things become tags: an outline of what was found, whose further columns are the tags to be. Names are made by
// example; all of it becomes one undoable change.

import { useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { type ClipboardEvent, type KeyboardEvent, useDeferredValue, useId, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../api/client';
import { type Item, TYPES } from '../../api/model';
import { commit, itemsNow, useItems } from '../../api/queries';
import { Progress } from '../../app/job-line';
import { useGo } from '../../app/router';
import { complain, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Field, Input, Tick } from '../../parts/ui';
import {
  type Candidate,
  cleaner,
  cleanPath,
  type Fixes,
  filled,
  judged,
  type Met,
  pasted,
  placesOf,
  prefixes,
  TYPED,
  type Typed,
  tagEdits,
} from './candidates';
import { IntakeRow, type IntakeTools, isFigure, ROW, TITLES } from './intake-row';
import { useLater } from './later';

interface Props {
  connection: Item<'connection'>;
  seen: number;
  /** What the parts of a source are called. */
  parts: readonly string[];
  rows: Candidate[];
  /** Takes what the rows become: answers come late, so it is always worked out from the rows as they are then. */
  onChange: (next: (rows: Candidate[]) => Candidate[]) => void;
  disabled: boolean;
}

const TRACK: Record<Typed, string> = {
  name: 'minmax(10rem,1.4fr)',
  place: 'minmax(9rem,1.3fr)',
  unit: '4rem',
  decimals: '5rem',
  low: '6rem',
  high: '4.2rem',
  factor: '4rem',
  limit: '5.4rem',
  low_limit: '5.4rem',
};

/** Types that a tag of a kind of connection can have. */
const TYPES_OF: Record<string, readonly string[]> = {
  modbus: TYPES,
  push: ['number', 'switch', 'text'],
  memory: ['number', 'switch', 'text'],
};

type Examples = [string, string][];

/** Names for all rows, from those typed in one column; nothing where all would be called alike. */
async function byExample(parts: readonly string[], rows: readonly Candidate[], examples: Examples) {
  const index = new Map(rows.map((row, i) => [row.key, i]));
  const typed = examples.flatMap(([key, name]): [number, string][] => {
    const at = index.get(key);
    return at === undefined || !name.trim() ? [] : [[at, name]];
  });
  const body = { parts: [...parts], rows: rows.map((r) => r.parts), examples: typed as unknown as never[] };
  const answer = await take(http.POST('/api/intake/names', { body }));
  const names = answer.names as (string | null)[];
  const alike = rows.length > 1 && new Set(names).size === 1;
  return { words: alike ? '' : answer.words, names: alike ? null : names };
}

/** Asks what stands where these tags would be. */
async function meet(rows: readonly Candidate[]): Promise<Met> {
  const clean = cleaner();
  const paths = new Set([...new Set(rows.map((r) => r.place))].flatMap(prefixes));
  const asked = [...rows.map((r) => [clean(r.place), r.name.trim()]), ...[...paths].map((path) => [path, ''])];
  const met = await take(http.POST('/api/intake/clashes', { body: { rows: asked as unknown as never[] } }));
  return { taken: new Map(met.clashes.map((clash) => [rows[clash.row]?.key ?? '', clash])), places: met.places };
}

const NO_PLACES: Item<'place'>[] = [];

/** A number that changes whenever a value is another. */
function useVersion(value: unknown): number {
  const last = useRef({ value, version: 0 });
  if (last.current.value !== value) last.current = { value, version: last.current.version + 1 };
  return last.current.version;
}

export function Intake({ connection, seen, parts, rows, onChange, disabled }: Props) {
  const go = useGo();
  const places = useItems('place').data?.items ?? NO_PLACES;
  const form = useForm({ place: '' }, ['place']);
  const id = useId();
  const [examples, setExamples] = useState<Record<'name' | 'place', Examples>>({ name: [], place: [] });
  const [words, setWords] = useState<Record<'name' | 'place', string>>({ name: '', place: '' });
  const [fixes, setFixes] = useState<Fixes>({});
  const [range, setRange] = useState<{ column: Typed; from: number; to: number } | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 6,
    useFlushSync: false,
    initialRect: { width: 1000, height: 320 },
  });
  const scrolling = useDeferredValue(virtual.isScrolling);
  const aim = useRef(0);

  // What stands where these tags would be: asked a moment after the last stroke.
  const wanted = useLater(rows, 400);
  const clashes = useQuery({
    queryKey: ['items', 'clashes', id, useVersion(wanted)],
    enabled: wanted.length > 0,
    queryFn: () => meet(wanted),
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const { data } = clashes;
  const { troubles, open, made, pointed, fresh } = useMemo(() => judged(rows, fixes, data), [rows, fixes, data]);

  const change = (index: number, part: Partial<Candidate>) =>
    onChange((all) => all.map((r, i) => (i === index ? { ...r, ...part } : r)));

  /** Takes a typed name as an example for the rest. */
  async function learn(column: 'name' | 'place', row: Candidate, text: string) {
    const typed: Examples = [...examples[column].filter(([key]) => key !== row.key), [row.key, text]];
    setExamples({ ...examples, [column]: typed });
    if (!text.trim() || rows.length < 2) return;
    try {
      const { words: told, names } = await byExample(parts, rows, typed);
      setWords((old) => ({ ...old, [column]: told }));
      const given = new Map(rows.map((r, i) => [r.key, names?.[i]]));
      if (names)
        onChange((all) => all.map((r) => ({ ...r, [column]: r.key === row.key ? text : (given.get(r.key) ?? r[column]) })));
    } catch (error) {
      complain(error);
    }
  }

  function focus(row: number, column: Typed) {
    const at = Math.min(Math.max(row, 0), rows.length - 1);
    aim.current = at;
    virtual.scrollToIndex(at);
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-cell="${at}-${column}"]`)?.focus());
  }

  function onKey(event: KeyboardEvent, row: number, column: Typed) {
    const down = event.key === 'ArrowDown' || event.key === 'Enter';
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'd') {
      const from = range?.column === column ? Math.min(range.from, range.to) : row;
      const to = range?.column === column && range.from !== range.to ? Math.max(range.from, range.to) : rows.length - 1;
      onChange((all) => filled(all, column, from, to, event.shiftKey));
    } else if (down || event.key === 'ArrowUp') {
      const next = Math.min(Math.max(row + (down ? 1 : -1), 0), rows.length - 1);
      setRange(
        event.shiftKey
          ? { column, from: range?.column === column ? range.from : row, to: next }
          : { column, from: next, to: next },
      );
      focus(next, column);
    } else return;
    event.preventDefault();
  }

  function onPaste(event: ClipboardEvent, row: number, column: Typed) {
    const text = event.clipboardData.getData('text');
    if (!/[\t\n]/.test(text.trim())) return;
    event.preventDefault();
    onChange((all) => pasted(all, text, row, column));
  }

  const why = `Created ${counted(made - pointed, 'tag')} of ${connection.set.name}`;
  async function create() {
    const wishes = rows.filter((r) => fixes[r.key] !== 'out');
    const done = await form.run(async () => {
      // The last stroke may be too fresh for the answer that is shown.
      const there = (await meet(wishes)).places;
      const paths = wishes.map((r) => cleanPath(r.place));
      const single = new Set(paths).size === 1 ? there[paths[0] ?? ''] : undefined;
      const { ids, edits } = placesOf(paths, there, places.length);
      const order = single ? (await itemsNow('tag', { under: single })).total : 0;
      const tags = tagEdits(
        wishes.map((row) => ({
          row,
          place: ids.get(cleanPath(row.place)) ?? '',
          ...(fixes[row.key] === 'instead' ? { instead: data?.taken.get(row.key)?.tag ?? '' } : {}),
        })),
        connection.id,
        order,
        // Memory is there to be set.
        connection.set.kind === 'memory' ? { writable: true } : {},
      );
      await commit(why, seen, [...edits, ...tags]);
      return ids;
    });
    if (!done) return;
    toast.success(`Created ${counted(made - pointed, 'tag')}${pointed ? `, pointed ${pointed} here` : ''}.`);
    onChange(() => []);
    const at = (await itemsNow('place')).items.find((p) => p.title === cleanPath(wishes[0]?.place ?? ''))?.id;
    go({ at, part: undefined }, '/board');
  }

  const { kind } = connection.set;
  const types = TYPES_OF[kind];
  const groups = connection.set.groups;
  // Only registers have raw counts.
  const columns = useMemo(() => TYPED.filter((c) => c !== 'factor' || kind === 'modbus'), [kind]);
  const tracks = [
    'minmax(9rem,1.2fr)',
    ...(types ? ['5.2rem'] : []),
    ...columns.map((c) => TRACK[c]),
    ...(groups.length > 0 ? ['8rem'] : []),
    '3.8rem',
    '2rem',
  ].join(' ');
  const first = troubles.findIndex(Boolean);
  const [low, high] = [Math.min(range?.from ?? 0, range?.to ?? 0), Math.max(range?.from ?? 0, range?.to ?? 0)];
  const tools = useRef<IntakeTools>(null as unknown as IntakeTools);
  tools.current = {
    change,
    learn: (column, row, text) => void learn(column, row, text),
    key: onKey,
    paste: onPaste,
    focus: (row, column) => {
      if (range?.column !== column || range.to !== row) setRange({ column, from: row, to: row });
    },
    fix: (key, how) => {
      const { [key]: _, ...rest } = fixes;
      setFixes(how ? { ...rest, [key]: how } : rest);
    },
    aim: () => aim.current,
    leave: (index) => onChange((all) => all.filter((_, n) => n !== index)),
  };
  const known = useMemo(
    () => (
      <datalist id="places">
        {places.slice(0, 500).map((place) => (
          <option key={place.id} value={place.title.replaceAll('/', ' / ')} />
        ))}
      </datalist>
    ),
    [places],
  );
  return (
    <form
      aria-label="Tags to be"
      className="mb-3 rounded border border-teal bg-raised p-3"
      onSubmit={(e) => {
        e.preventDefault();
        void create();
      }}
    >
      <div className="mb-2 flex flex-wrap items-start gap-3">
        <h3 className="flex-1 text-[1rem] font-semibold">{counted(rows.length, 'tag')} to be</h3>
        <Field
          label="Place for all"
          error={form.error('place')}
          className="w-72"
          hint={fresh > 0 ? `${counted(fresh, 'place')} will be made` : undefined}
        >
          {(p) => (
            <>
              <Input
                {...p}
                list="places"
                placeholder="Works / Extraction / EX-1"
                value={form.values.place}
                onChange={(e) => {
                  form.set('place', e.target.value);
                  setWords({ ...words, place: '' });
                  onChange((all) => all.map((r) => ({ ...r, place: e.target.value })));
                }}
              />
              {known}
            </>
          )}
        </Field>
        <span className="mt-6">
          <Tick
            label="Record all"
            checked={rows.every((r) => r.record)}
            onChange={(on) => onChange((all) => all.map((r) => ({ ...r, record: on })))}
          />
        </span>
        {groups.length > 0 && (
          <Field label="Group for all" className="w-40">
            {(p) => (
              <Choice {...p} value="" onChange={(e) => onChange((all) => all.map((r) => ({ ...r, group: e.target.value })))}>
                <option value="">choose…</option>
                {groups.map((g) => (
                  <option key={g.id} value={g.id}>
                    {g.name}
                  </option>
                ))}
              </Choice>
            )}
          </Field>
        )}
        {form.busy && (
          <span className="mt-6">
            <Progress title={why} />
          </span>
        )}
        <Button kind="main" type="submit" className="mt-5" disabled={disabled || form.busy || open > 0 || made === 0}>
          {form.busy ? 'Creating…' : `Create ${counted(made - pointed, 'tag')}`}
        </Button>
      </div>
      {(['name', 'place'] as const).map(
        (column) =>
          words[column] && (
            <p key={column} aria-live="polite" className="mb-1">
              <span className="text-soft">{column === 'name' ? 'Names are' : 'Places are'}</span> {words[column]}.{' '}
              <span className="text-sm text-soft">Correct any one to change the pattern.</span>
            </p>
          ),
      )}
      <p aria-live="polite" className="mb-1 text-sm text-soft">
        {open > 0 ? (
          <>
            Not yet: {counted(open, 'row')} to look at, the first: {troubles[first]}.{' '}
            <button type="button" className="text-teal hover:underline" onClick={() => focus(first, 'name')}>
              Go there
            </button>
          </>
        ) : (
          'Type one name, and the rest follow its pattern. Ctrl D fills down, Ctrl Shift D counts down; rows can be pasted.'
        )}
      </p>
      {form.other && (
        <p role="alert" className="mb-2 text-act4">
          {form.other}
        </p>
      )}
      <div
        ref={box}
        role="group"
        aria-label="Rows"
        className="overflow-auto border border-line"
        style={{ height: Math.min(rows.length, 10) * ROW + 38 }}
      >
        {/* One width for the heads and the rows under them. */}
        <div className="min-w-max">
          <div
            className="sticky top-0 z-10 grid h-7 items-center bg-band text-sm whitespace-nowrap"
            style={{ gridTemplateColumns: tracks }}
          >
            <span className="px-2 font-semibold">Source</span>
            {types && <span className="px-2 font-semibold">Type</span>}
            {columns.map((c) => (
              <span key={c} className={clsx('px-2 font-semibold', isFigure(c) && 'text-right')}>
                {TITLES[c]}
              </span>
            ))}
            {groups.length > 0 && <span className="px-2 font-semibold">Group</span>}
            <span className="px-2 font-semibold">Record</span>
          </div>
          <div className="relative" style={{ height: virtual.getTotalSize() }}>
            {virtual.getVirtualItems().map((item) => {
              const row = rows[item.index];
              if (!row) return null;
              const marked = range && range.from !== range.to && item.index >= low && item.index <= high;
              return (
                <IntakeRow
                  key={row.key}
                  scrolling={scrolling}
                  index={item.index}
                  start={item.start}
                  row={row}
                  connection={connection}
                  types={types}
                  columns={columns}
                  groups={groups}
                  tracks={tracks}
                  problem={troubles[item.index] ?? ''}
                  clash={data?.taken.get(row.key)}
                  fix={fixes[row.key]}
                  marked={marked ? range.column : undefined}
                  tools={tools}
                />
              );
            })}
          </div>
        </div>
      </div>
    </form>
  );
}
