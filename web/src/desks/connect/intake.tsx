// Where found things become tags: an outline of what was found, whose further columns are the new tags. Names are made by
// example; all of it becomes one undoable change.

import { useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { Redo2, Undo2 } from 'lucide-react';
import { type ClipboardEvent, type KeyboardEvent, useDeferredValue, useId, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { commit, itemsNow, useItems } from '../../api/queries';
import { Progress } from '../../app/job-line';
import { useGo } from '../../app/view';
import { complain, useForm } from '../../parts/form';
import { useKind } from '../../parts/kinds';
import { ListField } from '../../parts/picker';
import type { Steps } from '../../parts/steps';
import { counted } from '../../parts/text';
import { Button, Confirm, Field, Input, Tick } from '../../parts/ui';
import {
  beyond,
  type Candidate,
  cleaner,
  cleanPath,
  type Fault,
  filled,
  judged,
  type Met,
  mayFill,
  type Proposal,
  pasted,
  placesOf,
  pointOf,
  prefixes,
  proposed,
  type Read,
  statesOf,
  TYPED,
  type Typed,
  tagEdits,
  type Writing,
  withProposal,
  writingOf,
  written,
} from './candidates';
import { IntakeRow, type IntakeTools, isFigure, ROW, TITLES } from './intake-row';
import { useLater } from './later';

interface Props {
  connection: Item<'connection'>;
  seen: number;
  /** What the parts of a source are called. */
  parts: readonly string[];
  steps: Steps<Candidate>;
  disabled: boolean;
}

const TRACK: Record<Typed, string> = {
  address: 'minmax(8rem,1fr)',
  type: '6.5rem',
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

/** Errors that are listed. */
const MOST_SHOWN = 100;
/** More new places than this are asked about before they are made. */
const MANY_PLACES = 12;

type Column = Proposal['column'];
type Examples = [string, string][];

/** What a pattern seen in typed texts would make of the rows; nothing where all would be called alike. */
async function byExample(parts: readonly string[], rows: readonly Candidate[], column: Column, examples: Examples) {
  const index = new Map(rows.map((row, i) => [row.key, i]));
  const typed = examples.flatMap(([key, name]): [number, string][] => {
    const at = index.get(key);
    return at === undefined || !name.trim() ? [] : [[at, name]];
  });
  const of = column === 'place' ? 'places' : 'rows';
  const body = { parts: [...parts], rows: rows.map((r) => r.parts), examples: typed as unknown as never[], of };
  const answer = await take(http.POST('/api/intake/names', { body }));
  const names = answer.names as (string | null)[];
  const alike = column === 'name' && rows.length > 1 && new Set(names).size === 1;
  return alike ? null : proposed(rows, column, answer.words, names);
}

/** Asks what stands where these tags would be. */
async function meet(rows: readonly Candidate[]): Promise<Met> {
  const clean = cleaner();
  const paths = new Set([...new Set(rows.map((r) => r.place))].flatMap(prefixes));
  const asked = [...rows.map((r) => [clean(r.place), r.name.trim()]), ...[...paths].map((path) => [path, ''])];
  const met = await take(http.POST('/api/intake/clashes', { body: { rows: asked as unknown as never[] } }));
  return { taken: new Map(met.clashes.map((clash) => [rows[clash.row]?.key ?? '', clash])), places: met.places };
}

/** Asks where the rows would be read. */
async function locate(connection: Item<'connection'>, writing: Writing, rows: readonly Candidate[]): Promise<Read> {
  const points = rows.map((row) => pointOf(row, writing).point) as never[];
  const read = await take(http.POST('/api/intake/points', { body: { connection: connection.id, points } }));
  return new Map(rows.flatMap((row, i) => (read[i] ? [[row.key, read[i]]] : [])));
}

const NO_PLACES: Item<'place'>[] = [];

/** A number that changes whenever a value is another. */
function useVersion(value: unknown): number {
  const last = useRef({ value, version: 0 });
  if (last.current.value !== value) last.current = { value, version: last.current.version + 1 };
  return last.current.version;
}

export function Intake({ connection, seen, parts, steps, disabled }: Props) {
  const go = useGo();
  const rows = steps.list;
  const places = useItems('place').data?.items ?? NO_PLACES;
  const form = useForm({ place: '' }, ['place']);
  const id = useId();
  const [examples, setExamples] = useState<Record<Column, Examples>>({ name: [], place: [] });
  const [proposal, setProposal] = useState<Proposal | null>(null);
  const [range, setRange] = useState<{ column: Typed; from: number; to: number } | null>(null);
  const [asking, setAsking] = useState(false);
  const [refusal, setRefusal] = useState('');
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
  const kind = useKind(connection.set.kind);
  const writing = useMemo(() => writingOf(kind), [kind]);

  // What stands where these tags would be, and where they are read: asked a moment after the last stroke.
  const wanted = useLater(rows, 400);
  const version = useVersion(wanted);
  const clashes = useQuery({
    queryKey: ['items', 'clashes', id, version],
    enabled: wanted.length > 0,
    queryFn: () => meet(wanted),
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const read = useQuery({
    queryKey: ['items', 'points', id, version, connection.revision],
    enabled: wanted.length > 0 && writing.registers,
    queryFn: () => locate(connection, writing, wanted),
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const { data } = clashes;
  const { faults, open, made, pointed, fresh } = useMemo(
    () => judged(rows, writing, data, read.data),
    [rows, writing, data, read.data],
  );

  const step = (next: (rows: readonly Candidate[]) => readonly Candidate[], name?: string) => {
    setProposal(null);
    setRefusal('');
    steps.step(next, name);
  };
  const change = (index: number, part: Partial<Candidate>) =>
    step(
      (all) => all.map((r, i) => (i === index ? written(r, part) : r)),
      `${rows[index]?.key ?? ''} ${Object.keys(part).join()}`,
    );
  const changeAll = (part: Partial<Candidate>, name?: string) => step((all) => all.map((r) => written(r, part)), name);

  /** Shows what a typed name would mean for the rows that have none, or one that a pattern made. */
  async function learn(column: Column, row: Candidate, text: string) {
    const typed: Examples = [...examples[column].filter(([key]) => key !== row.key), [row.key, text]];
    setExamples({ ...examples, [column]: typed });
    if (!text.trim() || !mayFill(rows, column, row.key)) return;
    try {
      const seen = rows.map((r) => (r.key === row.key ? written(r, { [column]: text }) : r));
      setProposal(await byExample(parts, seen, column, typed));
    } catch (error) {
      complain(error);
    }
  }
  const accept = () => {
    if (proposal) step((all) => withProposal(all, proposal));
  };

  function focus(row: number, column: Typed) {
    const at = Math.min(Math.max(row, 0), rows.length - 1);
    aim.current = at;
    virtual.scrollToIndex(at);
    requestAnimationFrame(() => box.current?.querySelector<HTMLElement>(`[data-cell="${at}-${column}"]`)?.focus());
  }

  function onKey(event: KeyboardEvent, row: number, column: Typed) {
    const down = event.key === 'ArrowDown' || event.key === 'Enter';
    const control = event.ctrlKey || event.metaKey;
    if (control && event.key === 'Enter') {
      event.currentTarget instanceof HTMLElement && event.currentTarget.blur();
      if (proposal) accept();
    } else if (control && event.key.toLowerCase() === 'd') {
      const from = range?.column === column ? Math.min(range.from, range.to) : row;
      const to = range?.column === column && range.from !== range.to ? Math.max(range.from, range.to) : rows.length - 1;
      step((all) => filled(all, column, from, to, event.shiftKey));
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
    const lost = beyond(rows, text, row, column, columns);
    if (lost) setRefusal(`Nothing was pasted: the clipboard holds ${lost}.`);
    else step((all) => pasted(all, text, row, column, columns));
  }

  const why = `Created ${counted(made - pointed, 'tag')} of ${connection.set.name}`;
  async function create() {
    const wishes = rows.filter((r) => r.fix !== 'out');
    const done = await form.run(async () => {
      // The last stroke may be too fresh for the answer that is shown.
      const there = (await meet(wishes)).places;
      const paths = wishes.map((r) => cleanPath(r.place));
      const single = new Set(paths).size === 1 ? there[paths[0] ?? ''] : undefined;
      const { ids, edits } = placesOf(paths, there, places.length);
      const order = single ? (await itemsNow('tag', { under: single })).total : 0;
      const named = wishes.some((r) => r.stateNames?.length) ? (await itemsNow('states')).items : [];
      const states = statesOf(wishes, named);
      const tags = tagEdits(
        states.rows.map((row) => ({
          row,
          place: ids.get(cleanPath(row.place)) ?? '',
          ...(row.fix === 'instead' ? { instead: data?.taken.get(row.key)?.tag ?? '' } : {}),
        })),
        connection.id,
        writing,
        order,
        // What is set here is there to be set.
        kind?.can.set_here ? { writable: true } : {},
      );
      await commit(why, seen, [...edits, ...states.edits, ...tags]);
      return ids;
    });
    if (!done) return;
    toast.success(`Created ${counted(made - pointed, 'tag')}${pointed ? `, changed ${pointed}` : ''}.`);
    steps.clear();
    const at = (await itemsNow('place')).items.find((p) => p.title === cleanPath(wishes[0]?.place ?? ''))?.id;
    go({ at, part: undefined }, '/board');
  }
  /** Creates, shows what is to be corrected first, or asks where much more than tags would be made. */
  function submit() {
    const first = faults.findIndex((all) => all.length > 0);
    const fault = faults[first]?.[0];
    if (fault) focus(first, fault.column);
    else if (fresh.length > MANY_PLACES) setAsking(true);
    else void create();
  }

  const groups = connection.set.groups;
  const some = (test: (row: Candidate) => boolean) => rows.some(test);
  const columns = useMemo(() => {
    const has = { address: rows.some((r) => r.written), type: writing.types.length > 0 };
    // Only registers have raw counts.
    return TYPED.filter((c) => (c === 'factor' ? writing.registers : c === 'address' || c === 'type' ? has[c] : true));
  }, [rows, writing]);
  const found = some((r) => !r.written) || !writing.registers;
  const tracks = [
    found ? 'minmax(9rem,1.2fr)' : '9.5rem',
    ...columns.map((c) => TRACK[c]),
    ...(groups.length > 0 ? ['8rem'] : []),
    '3.8rem',
    '2rem',
  ].join(' ');
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
    fix: (index, how) => step((all) => all.map((r, i) => (i === index ? { ...r, fix: how } : r))),
    aim: () => aim.current,
    remove: (index) => step((all) => all.filter((_, n) => n !== index)),
  };
  const known = useMemo(
    () => (
      <>
        <datalist id="places">
          {places.slice(0, 500).map((place) => (
            <option key={place.id} value={place.title.replaceAll('/', ' / ')} />
          ))}
        </datalist>
        <datalist id="types">
          {writing.types.map((type) => (
            <option key={type} value={type} />
          ))}
        </datalist>
      </>
    ),
    [places, writing],
  );
  return (
    <form
      aria-label="New tags"
      className="mb-3 rounded border border-teal bg-raised p-3"
      onKeyDown={(e) => {
        if (!(e.ctrlKey || e.metaKey) || e.altKey) return;
        const letter = e.key.toLowerCase();
        if (letter !== 'z' && letter !== 'y') return;
        e.preventDefault();
        setProposal(null);
        if (letter === 'y' || e.shiftKey) steps.redo();
        else steps.undo();
      }}
      onSubmit={(e) => {
        e.preventDefault();
        submit();
      }}
    >
      {known}
      <div className="mb-2 flex flex-wrap items-start gap-3">
        <div className="flex-1">
          <h3 className="text-[1rem] font-semibold">{counted(rows.length, 'new tag')}</h3>
          <p aria-live="polite" className={clsx('text-sm', open > 0 ? 'text-act4' : 'text-soft')}>
            {open > 0 ? (
              <>
                {counted(open, 'error')}.{' '}
                <button type="button" className="text-teal hover:underline" onClick={submit}>
                  Show the first
                </button>
              </>
            ) : (
              'No errors.'
            )}
          </p>
        </div>
        <span className="mt-5 flex gap-1">
          <Button kind="quiet" disabled={!steps.canUndo} onClick={steps.undo} aria-label="Undo" title="Undo (Ctrl Z)">
            <Undo2 className="size-4" /> Undo
          </Button>
          <Button kind="quiet" disabled={!steps.canRedo} onClick={steps.redo} aria-label="Redo" title="Redo (Ctrl Shift Z)">
            <Redo2 className="size-4" />
          </Button>
        </span>
        <Field
          label="Place for all"
          error={form.error('place')}
          className="w-72"
          hint={fresh.length > 0 ? counted(fresh.length, 'new place') : undefined}
        >
          {(p) => (
            <Input
              {...p}
              list="places"
              placeholder="Works / Extraction / EX-1"
              value={form.values.place}
              onChange={(e) => {
                form.set('place', e.target.value);
                changeAll({ place: e.target.value }, 'place for all');
              }}
            />
          )}
        </Field>
        <span className="mt-6">
          <Tick label="Record all" checked={rows.every((r) => r.record)} onChange={(on) => changeAll({ record: on })} />
        </span>
        {groups.length > 0 && (
          <Field label="Group for all" className="w-40">
            {(p) => (
              <ListField
                label="Group for all"
                from={groups.map((g) => ({ id: g.id, title: g.name }))}
                none="choose…"
                field={p}
                value=""
                onChange={(group) => changeAll({ group })}
              />
            )}
          </Field>
        )}
        {form.busy && (
          <span className="mt-6">
            <Progress title={why} />
          </span>
        )}
        <Button kind="main" type="submit" className="mt-5" disabled={disabled || form.busy || made === 0}>
          {form.busy ? 'Creating…' : open > 0 ? `Correct ${counted(open, 'error')}` : `Create ${counted(made - pointed, 'tag')}`}
        </Button>
      </div>
      {proposal ? (
        <div role="region" aria-label="Pattern" className="mb-1 flex flex-wrap items-center gap-x-2" aria-live="polite">
          <span className="min-w-0 flex-1">
            {proposal.column === 'name' ? 'Names' : 'Places'} by this example: <b>{sample(proposal)}</b>
            <span className="text-sm text-soft">
              {' '}
              ({proposal.words}
              {proposal.column === 'place' && `; ${counted(newPlaces(proposal, data), 'new place')}`})
            </span>
          </span>
          <Button onClick={accept} title="Ctrl Enter">
            {proposal.empty === proposal.texts.size ? 'Fill' : 'Change'} {counted(proposal.texts.size, 'row')}
          </Button>
          <Button kind="quiet" onClick={() => setProposal(null)}>
            Keep as it is
          </Button>
        </div>
      ) : (
        <p className="mb-1 text-sm text-soft">
          Type one name, and Havrel offers the same pattern for the empty ones. Ctrl D fills down, Ctrl Shift D counts down, Ctrl
          Z takes the last step back.
        </p>
      )}
      {(form.other || refusal) && (
        <p role="alert" className="mb-2 text-act4">
          {refusal || form.other}
        </p>
      )}
      {open > 0 && (
        <ul aria-label="Errors" className="mb-2 max-h-20 overflow-auto text-sm">
          {groupedFaults(faults)
            .slice(0, MOST_SHOWN)
            .map(({ row, column, words, more }) => (
              <li key={`${column} ${words} ${row}`}>
                <button type="button" className="text-left hover:text-teal" onClick={() => focus(row, column)}>
                  <b>{TITLES[column]}</b> of {rows[row]?.name || rows[row]?.source || `row ${row + 1}`}
                  {more > 0 && ` and ${more} more`}: <span className="text-act4">{words}</span>
                </button>
              </li>
            ))}
        </ul>
      )}
      <Confirm
        open={asking}
        title={`Create ${counted(fresh.length, 'place')} too?`}
        action={`Create ${counted(made - pointed, 'tag')} and ${counted(fresh.length, 'place')}`}
        grave={false}
        disabled={form.busy}
        onConfirm={() => {
          setAsking(false);
          void create();
        }}
        onClose={() => setAsking(false)}
      >
        <p>
          These places do not exist yet: {fresh.slice(0, 6).join(', ')}
          {fresh.length > 6 && ` and ${fresh.length - 6} more`}.
        </p>
      </Confirm>
      <div
        ref={box}
        role="group"
        aria-label="Rows"
        className="overflow-auto border border-line"
        // With its head and the scroll bar below.
        style={{ height: Math.min(rows.length, 10) * ROW + 46 }}
      >
        {/* One width for the heads and the rows under them. */}
        <div className="min-w-max">
          <div
            className="sticky top-0 z-10 grid h-7 items-center bg-band text-sm whitespace-nowrap"
            style={{ gridTemplateColumns: tracks }}
          >
            <span className="px-2 font-semibold">Source</span>
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
                  found={found}
                  columns={columns}
                  groups={groups}
                  tracks={tracks}
                  faults={faults[item.index] ?? NO_FAULTS}
                  clash={data?.taken.get(row.key)}
                  shown={read.data?.get(row.key)?.shown}
                  ghost={proposal?.texts.get(row.key)}
                  ghostIn={proposal?.column}
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

const NO_FAULTS: readonly never[] = [];

/** Every error once, with the first row that has it and how many more do. */
function groupedFaults(faults: readonly (readonly Fault[])[]) {
  const all = new Map<string, Fault & { row: number; more: number }>();
  faults.forEach((some, row) => {
    for (const fault of some) {
      const key = `${fault.column} ${fault.words}`;
      const known = all.get(key);
      if (known) known.more += 1;
      else all.set(key, { ...fault, row, more: 0 });
    }
  });
  return [...all.values()];
}

/** The first names that a pattern makes. */
function sample({ texts }: Proposal): string {
  const some = [...new Set(texts.values())];
  return `${some.slice(0, 3).join(', ')}${some.length > 3 ? ' …' : ''}`;
}

function newPlaces({ texts }: Proposal, met: Met | undefined): number {
  return [...new Set([...new Set(texts.values())].flatMap(prefixes))].filter((path) => !met?.places[path]).length;
}
