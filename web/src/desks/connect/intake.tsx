// Where found things become tags: an outline of what was found, whose further columns are the tags to be. Names are made by
// example; all of it becomes one undoable change.

import { useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { X } from 'lucide-react';
import { type ClipboardEvent, type KeyboardEvent, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../api/client';
import { type Item, type Point, TYPES } from '../../api/model';
import { commit, itemsNow, useItems } from '../../api/queries';
import { Progress } from '../../app/job-line';
import { useGo } from '../../app/router';
import { usePointCheck } from '../../app/tag-settings';
import { complain, useForm } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Choice, Field, INPUT, Input, Tick } from '../../parts/ui';
import {
  type Candidate,
  cleanPath,
  filled,
  pasted,
  placesOf,
  prefixes,
  TYPED,
  type Typed,
  tagEdits,
  wrongWith,
} from './candidates';
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

const ROW = 32;
const TITLES: Record<Typed, string> = {
  name: 'Name',
  place: 'Place',
  unit: 'Unit',
  decimals: 'Decimals',
  low: 'Range from',
  high: 'to',
  factor: 'Factor',
  limit: 'High limit',
};
const TRACK: Record<Typed, string> = {
  name: 'minmax(10rem,1.4fr)',
  place: 'minmax(9rem,1.3fr)',
  unit: '4rem',
  decimals: '4.5rem',
  low: '5rem',
  high: '4.2rem',
  factor: '4rem',
  limit: '4.8rem',
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

/** What stands where these tags would be, and which of their places there are. */
function meet(rows: readonly Candidate[]) {
  const paths = [...new Set(rows.flatMap((r) => prefixes(r.place)))];
  const asked = [...rows.map((r) => [cleanPath(r.place), r.name.trim()]), ...paths.map((path) => [path, ''])];
  return take(http.POST('/api/intake/clashes', { body: { rows: asked as unknown as never[] } }));
}

export function Intake({ connection, seen, parts, rows, onChange, disabled }: Props) {
  const go = useGo();
  const places = useItems('place').data?.items ?? [];
  const form = useForm({ place: '' }, ['place']);
  const [examples, setExamples] = useState<Record<'name' | 'place', Examples>>({ name: [], place: [] });
  const [words, setWords] = useState<Record<'name' | 'place', string>>({ name: '', place: '' });
  const [fixes, setFixes] = useState<Record<string, 'instead' | 'out'>>({});
  const [range, setRange] = useState<{ column: Typed; from: number; to: number } | null>(null);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 6,
    initialRect: { width: 1000, height: 320 },
  });

  // What stands where these tags would be: asked a moment after the last stroke.
  const wanted = useLater(rows, 400);
  const clashes = useQuery({
    queryKey: ['items', 'clashes', wanted.map((r) => [r.place, r.name])],
    enabled: wanted.length > 0,
    queryFn: () => meet(wanted),
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const known = clashes.data?.places ?? {};
  const taken = new Map(clashes.data?.clashes.map((c) => [wanted[c.row]?.key, c]) ?? []);
  const seenNames = new Map<string, number>();
  for (const row of rows) {
    const key = `${cleanPath(row.place)}/${row.name.trim()}`;
    if (fixes[row.key] !== 'out') seenNames.set(key, (seenNames.get(key) ?? 0) + 1);
  }
  const trouble = (row: Candidate): string => {
    if (fixes[row.key] === 'out') return '';
    const wrong = wrongWith(row);
    if (wrong) return wrong;
    if ((seenNames.get(`${cleanPath(row.place)}/${row.name.trim()}`) ?? 0) > 1) return 'twice in this list';
    return taken.has(row.key) && fixes[row.key] !== 'instead' ? 'taken' : '';
  };
  const troubles = rows.map(trouble);
  const open = troubles.filter(Boolean).length;
  const made = rows.filter((r) => fixes[r.key] !== 'out').length;
  const pointed = rows.filter((r) => fixes[r.key] === 'instead').length;
  const fresh = [...new Set(rows.flatMap((r) => prefixes(r.place)))].filter((p) => !known[p]).length;

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
          ...(fixes[row.key] === 'instead' ? { instead: taken.get(row.key)?.tag ?? '' } : {}),
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

  const types = TYPES_OF[connection.set.kind];
  const groups = connection.set.groups;
  // Only registers have raw counts.
  const columns = TYPED.filter((c) => c !== 'factor' || connection.set.kind === 'modbus');
  const tracks = [
    'minmax(9rem,1.2fr)',
    ...(types ? ['5.2rem'] : []),
    ...columns.map((c) => TRACK[c]),
    ...(groups.length > 0 ? ['8rem'] : []),
    '3.8rem',
    '2rem',
  ].join(' ');
  const first = troubles.findIndex(Boolean);
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
              <datalist id="places">
                {places.map((place) => (
                  <option key={place.id} value={place.title.replaceAll('/', ' / ')} />
                ))}
              </datalist>
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
        <div
          className="sticky top-0 z-10 grid h-7 min-w-max items-center bg-band text-sm"
          style={{ gridTemplateColumns: tracks }}
        >
          <span className="px-2 font-semibold">Source</span>
          {types && <span className="px-1 font-semibold">Type</span>}
          {columns.map((c) => (
            <span key={c} className="px-1 font-semibold">
              {TITLES[c]}
            </span>
          ))}
          {groups.length > 0 && <span className="px-1 font-semibold">Group</span>}
          <span className="px-1 font-semibold">Record</span>
        </div>
        <div className="relative min-w-max" style={{ height: virtual.getTotalSize() }}>
          {virtual.getVirtualItems().map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            const i = item.index;
            const problem = troubles[i];
            const clash = taken.get(row.key);
            const out = fixes[row.key] === 'out';
            const inRange = (c: Typed) =>
              range?.column === c &&
              range.from !== range.to &&
              i >= Math.min(range.from, range.to) &&
              i <= Math.max(range.from, range.to);
            return (
              <div
                key={row.key}
                className={clsx('absolute right-0 left-0 grid items-center border-t border-line', out && 'opacity-50')}
                style={{ gridTemplateColumns: tracks, height: ROW, transform: `translateY(${item.start}px)` }}
              >
                <Source connection={connection} row={row} />
                {types && (
                  <span className="px-0.5">
                    {row.point.block ? (
                      <span className="px-1 text-soft">by layout</span>
                    ) : (
                      <Choice
                        aria-label={`Type of ${row.source}`}
                        value={row.point.type ?? types[0]}
                        onChange={(e) => change(i, { point: retyped(row.point, e.target.value) })}
                      >
                        {types.map((t) => (
                          <option key={t}>{t}</option>
                        ))}
                      </Choice>
                    )}
                  </span>
                )}
                {columns.map((column) => (
                  <span key={column} className="relative px-0.5">
                    <input
                      data-cell={`${i}-${column}`}
                      aria-label={`${TITLES[column]} of ${row.source}`}
                      aria-invalid={faulty(problem ?? '', column)}
                      autoComplete="off"
                      spellCheck={false}
                      className={clsx(
                        INPUT,
                        column !== 'name' && column !== 'place' && column !== 'unit' && 'figures text-right',
                        inRange(column) && 'bg-tint',
                      )}
                      value={row[column]}
                      onFocus={(e) => {
                        e.currentTarget.dataset.before = row[column];
                        if (range?.column !== column || range.to !== i) setRange({ column, from: i, to: i });
                      }}
                      onBlur={(e) => {
                        const { value, dataset } = e.currentTarget;
                        if ((column === 'name' || column === 'place') && value !== dataset.before) void learn(column, row, value);
                      }}
                      onKeyDown={(e) => onKey(e, i, column)}
                      onPaste={(e) => onPaste(e, i, column)}
                      onChange={(e) => change(i, { [column]: e.target.value })}
                    />
                    {column === 'name' && problem === 'taken' && clash && (
                      <span className="absolute top-0 right-1.5 z-10 flex h-full items-center gap-2 bg-raised pl-1 text-sm">
                        <b className="text-act4" title={clash.source}>
                          taken
                        </b>
                        <button
                          type="button"
                          className="text-teal hover:underline"
                          title={`Now read from ${clash.source || 'nowhere'}`}
                          onClick={() => setFixes({ ...fixes, [row.key]: 'instead' })}
                        >
                          point it here
                        </button>
                        <button
                          type="button"
                          className="text-teal hover:underline"
                          onClick={() => setFixes({ ...fixes, [row.key]: 'out' })}
                        >
                          leave out
                        </button>
                      </span>
                    )}
                    {column === 'name' && (fixes[row.key] || problem === 'twice in this list') && (
                      <span className="absolute top-0 right-1.5 flex h-full items-center gap-2 bg-raised pl-1 text-sm">
                        {fixes[row.key] ? (
                          <button
                            type="button"
                            className="text-teal hover:underline"
                            onClick={() => {
                              const { [row.key]: _, ...rest } = fixes;
                              setFixes(rest);
                            }}
                          >
                            {fixes[row.key] === 'out' ? 'left out' : 'existing tag'}, undo
                          </button>
                        ) : (
                          <span className="text-act4">{problem}</span>
                        )}
                      </span>
                    )}
                  </span>
                ))}
                {groups.length > 0 && (
                  <span className="px-0.5">
                    <Choice
                      aria-label={`Group of ${row.source}`}
                      value={row.group}
                      onChange={(e) => change(i, { group: e.target.value })}
                    >
                      <option value="">every {connection.set.interval_ms / 1000} s</option>
                      {groups.map((g) => (
                        <option key={g.id} value={g.id}>
                          {g.name}
                        </option>
                      ))}
                    </Choice>
                  </span>
                )}
                <span className="px-2">
                  <Tick
                    hideLabel
                    label={`Record ${row.source}`}
                    checked={row.record}
                    onChange={(on) => change(i, { record: on })}
                  />
                </span>
                <button
                  type="button"
                  className="rounded p-1 hover:bg-band"
                  aria-label={`Leave out ${row.source}`}
                  onClick={() => onChange((all) => all.filter((_, n) => n !== i))}
                >
                  <X className="size-3.5" />
                </button>
              </div>
            );
          })}
        </div>
      </div>
    </form>
  );
}

/** Whether a row's trouble lies in a column. */
function faulty(problem: string, column: Typed): boolean {
  if (column === 'place') return problem === 'no place';
  return column === 'name' && ['no name', 'taken', 'twice in this list'].includes(problem);
}

/** A point of another type; texts and packed decimals need a length. */
function retyped(point: Partial<Point>, type: string): Partial<Point> {
  const { length, ...rest } = point;
  const sized = type === 'text' ? { length: length ?? 8 } : type === 'bcd' ? { length: Math.min(length ?? 2, 4) } : {};
  return { ...rest, type, ...sized };
}

/** Where a row is read; of a register as it goes on the wire, or what is wrong with it. */
function Source({ connection, row }: { connection: Item<'connection'>; row: Candidate }) {
  const asks = connection.set.kind === 'modbus' && !row.point.block;
  const check = usePointCheck(asks ? connection.id : null, row.point);
  const wrong = check.data?.wrong[0]?.[1];
  return (
    <span className={clsx('truncate px-2', wrong ? 'text-sm text-act4' : asks && 'figures')} title={wrong ?? row.source}>
      {wrong ?? (check.data?.shown.split(',')[0] || row.source)}
    </span>
  );
}
