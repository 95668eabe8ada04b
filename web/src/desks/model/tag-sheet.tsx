// Every tag in a sheet that is written in: what is typed is staged, tried on the server while one goes on, and saved as one
// revision.

import { useQuery } from '@tanstack/react-query';
import { ListFilter, Replace as ReplaceIcon } from 'lucide-react';
import { useCallback, useMemo, useRef, useState } from 'react';
import { http, newId, take } from '../../api/client';
import { useItems } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { pathsInOrder } from '../../app/tree';
import { useGo, useView } from '../../app/view';
import { ColumnChoice } from '../../parts/column-choice';
import { Grid, type GridHandle, type GridRow, isShown } from '../../parts/grid';
import { PickField } from '../../parts/picker';
import { useWorld } from '../../parts/reading';
import type { Order } from '../../parts/sheet';
import { counted } from '../../parts/text';
import { Button, Choice, Input } from '../../parts/ui';
import { Views } from '../../parts/views';
import { Unsaved, useWritten } from '../../parts/written';
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
  const written = useWritten('tag', 'tag sheet', 'tag');
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

  const title = (key: string) => known.get(key)?.title ?? key;
  const onCounted = useCallback((count: number) => setTotal(count), []);
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
        <ColumnChoice
          known={[...known.values()]}
          chosen={view.columns}
          usual={FIRST}
          onChange={(next) => change({ columns: next })}
        />
        <Views sheet="tags" kept="these columns, filter and order" view={view} onTake={(next) => change({ ...START, ...next })} />
      </div>
      {replacing && (
        <Replace
          grid={grid}
          columns={columns.filter((c) => !isShown(c))}
          onWrite={written.write}
          onClose={() => {
            setReplacing(false);
            grid.current?.focus();
          }}
        />
      )}
      <Unsaved written={written} title={title} grid={grid} />
      <Grid
        label="Tags"
        columns={columns}
        source={['tags', at, view.text, view.order, asked, moment]}
        fetch={fetch}
        rowOf={rowOf}
        textOf={textOf}
        staged={written.changes}
        onWrite={written.write}
        blank={blank}
        troubles={written.troubles}
        onUndo={written.undo}
        onSave={() => void written.save()}
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
