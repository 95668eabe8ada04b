// Every tag in a sheet that is written in: what is typed is staged, tried on the server while one goes on, and saved as one
// revision.

import { useQuery } from '@tanstack/react-query';
import { Columns3, ListFilter, Replace as ReplaceIcon, Undo2 } from 'lucide-react';
import { Popover } from 'radix-ui';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, newId, Refused, take } from '../../api/client';
import { useRevision } from '../../api/live';
import { made, useItems } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { pathsInOrder } from '../../app/tree';
import { useGo, useView } from '../../app/view';
import { useDraft } from '../../parts/draft';
import { complain } from '../../parts/form';
import { type CellTrouble, cellName, Grid, type GridHandle, type GridRow, isShown } from '../../parts/grid';
import { PickField } from '../../parts/picker';
import { useWorld } from '../../parts/reading';
import type { Order } from '../../parts/sheet';
import { cellCount, insisted, NOTHING, STAGED, type Staged, staged, type Write, without } from '../../parts/staged';
import { counted } from '../../parts/text';
import { Button, Choice, Input, Tick } from '../../parts/ui';
import { Views } from '../../parts/views';
import { Replace } from './replace';
import { allColumns, FIRST, type TagRow } from './tag-columns';

/** Which tags are shown, in words, and what that asks of the server. */
const CHOICES: Record<string, { words: string; query: Partial<Query> }> = {
  all: { words: 'all tags', query: {} },
  bad: { words: 'bad now', query: { quality: 'bad' } },
  uncertain: { words: 'uncertain now', query: { quality: 'uncertain' } },
  alarm: { words: 'in alarm now', query: { in_alarm: true } },
  by_hand: { words: 'set by hand now', query: { by_hand: true } },
  unbound: { words: 'without a source', query: { bound: false } },
  computed: { words: 'computed', query: { computed: true } },
  twice: { words: 'same source twice', query: { twice: true } },
  unanswered: { words: 'never answered', query: { answered: false } },
  unchecked: { words: 'loop never checked', query: { proof: 'never' } },
  changed: { words: 'changed since proven', query: { proof: 'changed' } },
  failed: { words: 'loop check failed', query: { proof: 'failed' } },
  proven: { words: 'loop proven', query: { proof: 'proven' } },
  recorded: { words: 'recorded', query: { recorded: true } },
  unrecorded: { words: 'not recorded', query: { recorded: false } },
  alarmed: { words: 'with alarm rules', query: { alarmed: true } },
  unalarmed: { words: 'without alarm rules', query: { alarmed: false } },
  idle: { words: 'out of service', query: { in_service: false } },
};

interface Query {
  quality: string;
  in_alarm: boolean;
  by_hand: boolean;
  bound: boolean;
  computed: boolean;
  twice: boolean;
  answered: boolean;
  proof: string;
  recorded: boolean;
  alarmed: boolean;
  in_service: boolean;
}

/** What a view keeps. */
interface SheetView {
  columns: string[];
  choice: string;
  connection: string;
  text: string;
  order: Order | null;
}

const START: SheetView = { columns: FIRST, choice: 'all', connection: '', text: '', order: null };

export function TagSheet({ writable }: { writable: boolean }) {
  const go = useGo();
  const { at, tag } = useView();
  const tree = useTree();
  const revision = useRevision();
  const connections = useItems('connection').data?.items;
  const states = useItems('states').data?.items;
  const world = useWorld();
  const server = useQuery({
    queryKey: ['columns', 'tag'],
    queryFn: () => take(http.GET('/api/tables/{kind}/columns', { params: { path: { kind: 'tag' } } })),
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  const [view, setView] = useState<SheetView>(START);
  // What is meant by “now” where the choice depends on values: from when it was chosen.
  const [moment, setMoment] = useState(() => Date.now());
  const [total, setTotal] = useState<number>();
  const [history, setHistory] = useState<Staged[]>([]);
  const [changes, setChanges] = useDraft<Staged>('tag sheet', NOTHING, STAGED);
  const [told, setTold] = useState<Told[]>([]);
  const [busy, setBusy] = useState(false);
  const [replacing, setReplacing] = useState(false);
  const grid = useRef<GridHandle>(null);
  const change = (next: Partial<SheetView>) => {
    setView((old) => ({ ...old, ...next }));
    if (next.choice) setMoment(Date.now());
  };

  const offers = useMemo(
    () => ({
      places: pathsInOrder(tree?.top ?? []),
      connections: (connections ?? []).map((c) => c.set.name),
      states: (states ?? []).map((s) => s.set.name),
      units: [...new Set(world.units.values())].map((u) => u.symbol),
    }),
    [tree?.top, connections, states, world.units],
  );
  const known = useMemo(() => allColumns(server ?? [], offers), [server, offers]);
  const columns = useMemo(() => view.columns.flatMap((key) => known.get(key) ?? []), [known, view.columns]);
  const index = useMemo(() => new Map((server ?? []).map((c, i) => [c.key, i])), [server]);

  const asked = { ...CHOICES[view.choice]?.query, ...(view.connection ? { connection: view.connection } : {}) };
  const fetch = (from: number, count: number) => {
    const sort = view.order ? { sort: view.order.key, down: view.order.down } : {};
    const query = {
      ...(at ? { under: at } : {}),
      ...(view.text ? { text: view.text } : {}),
      ...sort,
      ...asked,
      moment,
      from,
      count,
    };
    return take(http.GET('/api/sheets/tags', { params: { query } }));
  };
  const rowOf = (row: TagRow): GridRow => ({ id: row.id, fresh: false, label: `${row.place_path}/${row.name}` });
  const textOf = (row: TagRow, key: string) => row.cells[index.get(key) ?? -1] ?? '';

  function write(writes: Write[]) {
    if (writes.length === 0) return;
    setHistory((old) => [...old.slice(-49), changes]);
    setChanges((old) => staged(old, writes));
  }
  function undo() {
    const last = history.at(-1);
    if (last === undefined) return;
    setChanges(last);
    setHistory((old) => old.slice(0, -1));
  }

  // What is typed is tried while one goes on, and again when somebody else has changed something.
  const tried = useRef(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new revision may make wrong what was right
  useEffect(() => {
    tried.current += 1;
    const mine = tried.current;
    if (changes.size === 0) {
      setTold([]);
      return;
    }
    const timer = setTimeout(() => {
      send(changes, true)
        .then(() => mine === tried.current && setTold([]))
        .catch((error) => mine === tried.current && setTold(toldBy(error, changes)));
    }, 350);
    return () => clearTimeout(timer);
  }, [changes, revision]);

  async function save() {
    if (changes.size === 0 || busy) return;
    setBusy(true);
    try {
      const done = await send(changes, false);
      setChanges(NOTHING);
      setHistory([]);
      await made(done.revision);
      if (done.changed > 0)
        toast.success(`Saved ${counted(done.changed, 'tag')}.`, {
          action: { label: 'Undo', onClick: () => takeBack(done.revision) },
        });
    } catch (error) {
      if (error instanceof Refused && error.problems.length > 0) setTold(toldBy(error, changes));
      else complain(error);
    } finally {
      setBusy(false);
    }
  }

  const troubles = useMemo(() => {
    const map = new Map<string, CellTrouble>();
    for (const t of told) map.set(cellName(t.id, t.key || 'name'), { message: t.message, now: t.now });
    return map;
  }, [told]);
  const title = (key: string) => known.get(key)?.title ?? key;
  const onCounted = useCallback((count: number) => setTotal(count), []);
  const cells = cellCount(changes);
  const made_ = [...changes.values()].filter((r) => r.fresh).length;
  const here = at ? pathOf(tree, at) : '';
  const lastOrder = useRef(0);
  const nextOrder = () => {
    lastOrder.current = Math.max(lastOrder.current + 1, Date.now());
    return String(lastOrder.current);
  };
  const blank = () => ({
    row: { id: newId(), fresh: true, label: 'new tag' },
    // Behind all others, in the order in which they are made: times rise.
    texts: { ...(here ? { place: here } : {}), order: nextOrder() },
  });
  return (
    <section aria-label="Tags" className="flex min-h-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">{total === undefined ? 'Tags' : counted(total, 'tag')}</h2>
        <Input
          aria-label="Filter tags"
          placeholder="Words of the path…"
          className="w-44"
          value={view.text}
          onChange={(e) => change({ text: e.target.value })}
        />
        <span className="flex items-center gap-1">
          <ListFilter className="size-4 text-soft" aria-hidden />
          <Choice
            aria-label="Which tags"
            className="w-40"
            value={view.choice}
            onChange={(e) => change({ choice: e.target.value })}
          >
            {Object.entries(CHOICES).map(([key, { words }]) => (
              <option key={key} value={key}>
                {words}
              </option>
            ))}
          </Choice>
        </span>
        <PickField
          label="Of which connection"
          kind="connection"
          none="any connection"
          className="w-40"
          value={connections?.find((c) => c.id === view.connection)}
          onChange={(id) => change({ connection: id ?? '' })}
        />
        {view.order && <Button onClick={() => change({ order: null })}>Plant order</Button>}
        <span className="flex-1" />
        {writable && (
          <Button onClick={() => setReplacing(!replacing)} aria-expanded={replacing}>
            <ReplaceIcon className="size-4" /> Replace
          </Button>
        )}
        <ColumnChoice known={[...known.values()]} chosen={view.columns} onChange={(next) => change({ columns: next })} />
        <Views sheet="tags" kept="these columns, filter and order" view={view} onTake={(next) => change({ ...START, ...next })} />
      </div>
      {replacing && (
        <Replace
          grid={grid}
          columns={columns.filter((c) => !isShown(c))}
          onWrite={write}
          onClose={() => {
            setReplacing(false);
            grid.current?.focus();
          }}
        />
      )}
      {changes.size > 0 && (
        <div className="mb-2 rounded border border-teal bg-raised px-2.5 py-1.5" role="region" aria-label="Not saved yet">
          <div className="flex items-center gap-2">
            <p className="flex-1" aria-live="polite">
              <b>{counted(cells, 'cell')}</b> in {counted(changes.size, 'row')}
              {made_ > 0 && `, ${made_} new`}, not saved yet.{' '}
              {told.length > 0 && <span className="text-act4">{counted(told.length, 'error')}.</span>}
            </p>
            <Button onClick={undo} disabled={history.length === 0}>
              <Undo2 className="size-4" /> Undo
            </Button>
            <Button
              onClick={() => {
                setHistory((old) => [...old, changes]);
                setChanges(NOTHING);
              }}
            >
              Discard all
            </Button>
            <Button kind="main" disabled={busy || told.length > 0} onClick={() => void save()}>
              Save {counted(changes.size, 'row')}
            </Button>
          </div>
          {told.length > 0 && (
            <ul className="mt-1 max-h-24 overflow-auto text-sm">
              {grouped(told)
                .slice(0, 100)
                .map(({ one: t, more }) => (
                  <li key={`${t.id} ${t.key}`} className="flex flex-wrap items-baseline gap-x-2">
                    <span>
                      {t.key && <b>{title(t.key)}</b>} {t.key && 'of'} {t.label.replaceAll('/', ' / ')}
                      {more > 0 && ` and ${more} more`}: <span className="text-act4">{t.message}</span>
                      {t.now !== undefined && (
                        <>
                          {' '}
                          Theirs is <b>{t.now || 'empty'}</b>, yours <b>{changes.get(t.id)?.cells[t.key]?.text || 'empty'}</b>.
                        </>
                      )}
                    </span>
                    {t.now === undefined ? (
                      <Link onClick={() => grid.current?.reach(t.id, t.key || 'name')}>Go there</Link>
                    ) : (
                      <>
                        <Link onClick={() => setChanges((old) => insisted(old, t.id, t.key, t.now ?? ''))}>Keep yours</Link>
                        <Link onClick={() => setChanges((old) => without(old, t.id, t.key))}>Use theirs</Link>
                      </>
                    )}
                    <Link onClick={() => setChanges((old) => without(old, t.id))}>Discard this row</Link>
                  </li>
                ))}
            </ul>
          )}
        </div>
      )}
      <Grid
        label="Tags"
        columns={columns}
        source={['tags', at, view.text, view.order, asked, moment]}
        fetch={fetch}
        rowOf={rowOf}
        textOf={textOf}
        staged={changes}
        onWrite={write}
        blank={blank}
        troubles={troubles}
        onUndo={undo}
        onSave={() => void save()}
        writable={writable}
        open={tag}
        onOpen={(row) => go({ tag: row.id })}
        order={view.order ?? undefined}
        onOrder={(order) => change({ order })}
        onCounted={onCounted}
        handle={grid}
        className="min-h-48 flex-1"
      />
      {writable && (
        <p className="mt-1 text-sm text-soft">
          Type to write, F2 to change, Ctrl D fills down, Ctrl Shift D counts on; copy and paste with a spreadsheet. Enter opens
          the tag.
        </p>
      )}
    </section>
  );
}

function Link({ onClick, children }: { onClick: () => void; children: string }) {
  return (
    <button type="button" className="text-teal hover:underline" onClick={onClick}>
      {children}
    </button>
  );
}

/** What the server says of one cell. */
interface Told {
  id: string;
  key: string;
  label: string;
  message: string;
  now: string | undefined;
}

/** The same said of several rows is said once; what two people wrote stands by itself, to be chosen. */
function grouped(told: readonly Told[]): { one: Told; more: number }[] {
  const groups = new Map<string, { one: Told; more: number }>();
  for (const one of told) {
    const name = one.now === undefined ? `${one.key} ${one.message}` : `${one.id} ${one.key}`;
    const group = groups.get(name);
    if (group) group.more += 1;
    else groups.set(name, { one, more: 0 });
  }
  return [...groups.values()];
}

function toldBy(error: unknown, changes: Staged): Told[] {
  if (!(error instanceof Refused)) return [];
  const rows = [...changes.values()];
  return error.problems.flatMap((p) => {
    const row = rows[p.edit];
    return row ? [{ id: row.id, key: p.field, label: row.label, message: p.message, now: p.now }] : [];
  });
}

function send(changes: Staged, onlyTry: boolean) {
  const rows = [...changes.values()].map((row) => ({
    id: row.id,
    fresh: row.fresh,
    cells: Object.entries(row.cells).map(([column, { text, was }]) => ({ column, text, ...(row.fresh ? {} : { was }) })),
  }));
  const fresh = rows.filter((r) => r.fresh).length;
  const first = [...changes.values()][0];
  const why =
    rows.length === 1 && fresh === 0
      ? `Changed ${first?.label} in the sheet`
      : [fresh > 0 && `Added ${counted(fresh, 'tag')}`, rows.length > fresh && `changed ${counted(rows.length - fresh, 'tag')}`]
          .filter(Boolean)
          .join(' and ')
          .replace(/^./, (c) => c.toUpperCase());
  const body = { why: why.slice(0, 400), rows, try: onlyTry };
  return take(http.POST('/api/tables/{kind}/rows', { params: { path: { kind: 'tag' } }, body }));
}

function takeBack(revision: number) {
  take(http.POST('/api/undo', { body: { revision } }))
    .then(async (done) => {
      await made(done.revision);
      toast('Undone.');
    })
    .catch(complain);
}

interface ColumnProps {
  known: { key: string; title: string; pinned?: boolean }[];
  chosen: string[];
  onChange: (chosen: string[]) => void;
}

function ColumnChoice({ known, chosen, onChange }: ColumnProps) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button>
          <Columns3 className="size-4" /> Columns
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="z-50 w-80 rounded-md border border-firm bg-raised p-3 shadow-lg">
          <div className="grid grid-cols-2 gap-x-4 gap-y-1">
            {known.map((c) => (
              <Tick
                key={c.key}
                label={c.title}
                checked={chosen.includes(c.key)}
                disabled={c.pinned ?? false}
                onChange={(on) => onChange(on ? [...chosen, c.key] : chosen.filter((k) => k !== c.key))}
              />
            ))}
          </div>
          <div className="mt-2 flex justify-between">
            <Button kind="quiet" onClick={() => onChange(FIRST)}>
              The usual
            </Button>
            <Button kind="quiet" onClick={() => onChange(known.map((c) => c.key))}>
              All
            </Button>
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
