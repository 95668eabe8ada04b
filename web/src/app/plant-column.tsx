// The plant, always there: choosing a place scopes every desk; engineers build and order it here.

import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { Ellipsis } from 'lucide-react';
import { ContextMenu, DropdownMenu } from 'radix-ui';
import { type KeyboardEvent, useEffect, useId, useMemo, useRef, useState } from 'react';
import { newId } from '../api/client';
import { useStatus } from '../api/live';
import type { Node, Spot } from '../api/places';
import { useAlarms, useHands, useMay } from '../api/queries';
import { pathOf, useTree } from '../api/tree';
import { dragItem } from '../parts/drag';
import { mostUrgent } from '../parts/pips';
import { DeletePlaces } from './delete-places';
import { levelBelow, useClip, usePlantActs } from './plant-acts';
import { Entries, type Kit, MENU } from './plant-menu';
import { type Handle, ROW, Row, type Zone } from './plant-row';
import { alarmCounts, alarmsUnder, finder, rolledUp, rowsOf, standing, targetAt } from './tree';
import { useGo, useView } from './view';

const FOLDED = 'havrel:folded-places';
/** Larger plants begin with their two upper levels open. */
const ALL_OPEN = 400;

type Folds = Record<string, boolean>;

const NONE: readonly Node[] = [];

/** Which places are open: as they were left, otherwise by the size of the plant. */
function useFolds(size: number): [(id: string, depth: number) => boolean, (id: string, open: boolean) => void] {
  const [folds, setFolds] = useState<Folds>(() => JSON.parse(localStorage.getItem(FOLDED) ?? '{}') as Folds);
  const isOpen = useMemo(() => (id: string, depth: number) => folds[id] ?? (size <= ALL_OPEN || depth < 1), [folds, size]);
  const set = (id: string, open: boolean) => {
    const next = { ...folds, [id]: open };
    localStorage.setItem(FOLDED, JSON.stringify(next));
    setFolds(next);
  };
  return [isOpen, set];
}

export function PlantColumn() {
  const tree = useTree();
  const alarms = useAlarms();
  const status = useStatus();
  const engineer = useMay('engineer');
  const { at } = useView();
  const go = useGo();
  const id = useId();
  const box = useRef<HTMLDivElement>(null);
  const [text, setText] = useState('');
  const size = tree?.byId.size ?? 0;
  const [isOpen, fold] = useFolds(size);
  const nodes = tree?.top ?? NONE;
  const [find] = useState(finder);
  const rows = useMemo(
    () => (text.trim() ? rowsOf(find(nodes, text), () => true) : rowsOf(nodes, isOpen)),
    [nodes, isOpen, text, find],
  );
  const list = useMemo(() => alarms.data?.alarms ?? [], [alarms.data]);
  const byId = useMemo(() => tree?.byId ?? new Map<string, Spot>(), [tree]);
  const under = useMemo(() => alarmsUnder(byId, list), [byId, list]);
  const inAlarm = useMemo(() => rolledUp(byId, alarmCounts(list)), [byId, list]);
  const bad = useMemo(() => rolledUp(byId, status?.bad ?? {}), [byId, status]);
  const hands = useHands().data;
  const byHand = useMemo(() => {
    const counts: Record<string, number> = {};
    for (const { place } of hands ?? []) counts[place] = (counts[place] ?? 0) + 1;
    return rolledUp(byId, counts);
  }, [byId, hands]);
  // Two or three are looked for, which is quicker than to note where all are.
  const indexOf = useMemo(() => {
    return (id: string | undefined) => {
      const index = id ? rows.findIndex((r) => r.spot.id === id) : -1;
      return index < 0 ? undefined : index;
    };
  }, [rows]);

  // The row that keys act on, and what is chosen beside it to be moved, copied or taken away together.
  const [focus, setFocus] = useState<string>();
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const [editing, setEditing] = useState<{ id: string; fresh: boolean } | null>(null);
  const typed = useRef(editing);
  typed.current = editing;
  const [deleting, setDeleting] = useState<string[] | null>(null);
  const [drop, setDrop] = useState<{ id: string; zone: Zone } | null>(null);
  const dragged = useRef<string[]>([]);
  const clip = useClip();
  const focused = indexOf(focus) ?? indexOf(at) ?? 0;
  const here = rows[focused]?.spot;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
    initialRect: { width: 240, height: 600 },
  });
  const drawn = virtual.getVirtualItems();
  // What was made or moved here stays in sight once the tree has it where it belongs.
  const moved = useRef<{ id: string; since: number } | null>(null);
  const show = (ids: string[]) => {
    setChosen(new Set(ids.length > 1 ? ids : []));
    if (!ids[0]) return;
    setFocus(ids[0]);
    moved.current = { id: ids[0], since: tree?.revision ?? 0 };
  };
  useEffect(() => {
    const index = indexOf(moved.current?.id);
    if (index === undefined || !moved.current) return;
    // It is expected there before the server has said so.
    if ((tree?.revision ?? 0) > moved.current.since) moved.current = null;
    virtual.scrollToIndex(index);
  }, [tree, indexOf, virtual]);
  const acts = usePlantActs(tree, show);
  const picked = chosen.size > 0 ? [...chosen] : here ? [here.id] : [];

  // What was chosen elsewhere comes into sight.
  const seen = useRef<string>(undefined);
  useEffect(() => {
    const index = seen.current === at ? undefined : indexOf(at);
    if (index === undefined) return;
    seen.current = at;
    setFocus(at);
    virtual.scrollToIndex(index);
  }, [at, indexOf, virtual]);

  // What was found stays in sight when the others come back.
  const searching = text.trim() !== '';
  const searched = useRef(searching);
  useEffect(() => {
    if (searched.current && !searching) virtual.scrollToIndex(focused, { align: 'center' });
    searched.current = searching;
  }, [searching, focused, virtual]);

  /** Chooses a place here, where the focus is already. */
  function settle(to: string) {
    seen.current = to;
    go({ at: to });
  }

  function reach(index: number, range: boolean) {
    const to = Math.min(Math.max(index, 0), rows.length - 1);
    const row = rows[to];
    if (!row) return;
    if (range) setChosen(new Set([...(chosen.size > 0 ? chosen : here ? [here.id] : []), row.spot.id]));
    else setChosen(new Set());
    setFocus(row.spot.id);
    virtual.scrollToIndex(to);
  }

  const build: Record<string, () => void> = {
    F2: () => here && setEditing({ id: here.id, fresh: false }),
    Insert: () => here && setEditing({ id: here.id, fresh: true }),
    Delete: () => setDeleting(picked),
    'alt+ArrowUp': () => acts.shift(picked, 'up'),
    'alt+ArrowDown': () => acts.shift(picked, 'down'),
    'alt+ArrowLeft': () => acts.shift(picked, 'out'),
    'alt+ArrowRight': () => acts.shift(picked, 'in'),
    'ctrl+x': () => acts.cut(picked),
    'ctrl+c': () => acts.copy(picked),
    'ctrl+v': () => acts.paste(here?.id ?? null),
  };

  function onKey(event: KeyboardEvent) {
    const row = rows[focused];
    if (!row || event.target !== box.current) return;
    const { spot, children } = row;
    const open = children.length > 0 && isOpen(spot.id, standing(byId, spot).depth);
    const name = `${event.altKey ? 'alt+' : ''}${event.ctrlKey || event.metaKey ? 'ctrl+' : ''}${event.key.length === 1 ? event.key.toLowerCase() : event.key}`;
    if (build[name] && engineer) build[name]();
    else if (event.altKey || event.ctrlKey || event.metaKey) {
      if (event.key !== ' ') return;
      const next = new Set(chosen);
      if (!next.delete(spot.id)) next.add(spot.id);
      setChosen(next);
    } else if (event.key === 'ArrowDown') reach(focused + 1, event.shiftKey);
    else if (event.key === 'ArrowUp') reach(focused - 1, event.shiftKey);
    else if (event.key === 'Home') reach(0, event.shiftKey);
    else if (event.key === 'End') reach(rows.length - 1, event.shiftKey);
    else if (event.key === 'ArrowRight' && children.length > 0) open ? reach(focused + 1, false) : fold(spot.id, true);
    else if (event.key === 'ArrowLeft') {
      if (open) fold(spot.id, false);
      else if (spot.parent) reach(indexOf(spot.parent) ?? focused, false);
    } else if (event.key === 'Escape') setChosen(new Set());
    else if (event.key === 'Enter' || event.key === ' ') settle(spot.id);
    else return;
    event.preventDefault();
  }

  const handle: Handle = {
    choose: (spot, index, event) => {
      box.current?.focus({ preventScroll: true });
      if (event.shiftKey && rows[focused]) {
        const [from, to] = [Math.min(focused, index), Math.max(focused, index)];
        setChosen(new Set(rows.slice(from, to + 1).map((r) => r.spot.id)));
        return;
      }
      if (event.ctrlKey || event.metaKey) {
        const next = new Set(chosen.size > 0 ? chosen : here ? [here.id] : []);
        if (!next.delete(spot.id)) next.add(spot.id);
        setChosen(next);
        setFocus(spot.id);
        return;
      }
      setChosen(new Set());
      setFocus(spot.id);
      settle(spot.id);
    },
    fold,
    menu: (spot) => {
      if (!chosen.has(spot.id)) setChosen(new Set());
      setFocus(spot.id);
    },
    drag: (spot, event) => {
      dragged.current = chosen.has(spot.id) ? [...chosen] : [spot.id];
      event.dataTransfer.effectAllowed = 'copyMove';
      dragItem(event.dataTransfer, { kind: 'place', id: spot.id, title: pathOf(tree, spot.id) });
    },
    over: (spot, event) => {
      if (dragged.current.length === 0) return;
      event.preventDefault();
      const { top, height } = event.currentTarget.getBoundingClientRect();
      const share = (event.clientY - top) / height;
      const zone: Zone = share < 0.3 ? 'before' : share > 0.7 ? 'after' : 'into';
      if (drop?.id !== spot.id || drop.zone !== zone) setDrop({ id: spot.id, zone });
    },
    drop: (spot, event) => {
      event.preventDefault();
      if (drop && tree) acts.move(dragged.current, targetAt(tree, spot, drop.zone));
    },
    end: () => {
      dragged.current = [];
      setDrop(null);
    },
    named: async (name) => {
      // The field is left when it was done with Enter, which must not count twice.
      const edit = typed.current;
      typed.current = null;
      setEditing(null);
      box.current?.focus({ preventScroll: true });
      if (!edit || !name) return;
      if (!edit.fresh) {
        await acts.rename(edit.id, name);
        return;
      }
      const id = newId();
      fold(edit.id, true);
      show([id]);
      await acts.create(id, edit.id, name, levelBelow(tree?.byId.get(edit.id)?.level));
    },
  };
  const stable = useRef(handle);
  stable.current = handle;

  const menu = (kit: Kit) =>
    here && (
      <Entries
        kit={kit}
        many={picked.length}
        spot={here}
        idle={standing(byId, here).idle}
        canPaste={clip !== null}
        acts={acts}
        picked={picked}
        build={build}
      />
    );
  return (
    <div className="flex h-full flex-col">
      <div className="flex items-center gap-1 px-2 pt-2 pb-1">
        <input
          aria-label="Find a place"
          placeholder="Find a place…"
          className="h-6.5 min-w-0 flex-1 rounded border border-line bg-raised px-2 text-sm"
          value={text}
          autoComplete="off"
          onChange={(e) => {
            setText(e.target.value);
            // The first that is found, wherever the column stood before.
            if (box.current) box.current.scrollTop = 0;
          }}
          onKeyDown={(e) => {
            if (e.key === 'Escape') setText('');
            if (e.key === 'ArrowDown') box.current?.focus();
          }}
        />
        {here && engineer && (
          <DropdownMenu.Root>
            <DropdownMenu.Trigger className="rounded p-1 hover:bg-band" aria-label={`Actions on ${here.name}`}>
              <Ellipsis className="size-4" />
            </DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content className={MENU} align="start" sideOffset={2} onCloseAutoFocus={(e) => e.preventDefault()}>
                {menu(DropdownMenu)}
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
        )}
      </div>
      <button
        type="button"
        onClick={() => go({ at: undefined })}
        className={clsx('w-full px-3.5 py-1 text-left font-semibold', !at ? 'bg-tint' : 'hover:bg-band')}
        aria-current={!at}
      >
        Whole plant
      </button>
      {tree && size === 0 && (
        <p className="px-3.5 py-2 text-soft">No places yet. Add them with the first tags, or on the desk Model.</p>
      )}
      {tree && size > 0 && rows.length === 0 && <p className="px-3.5 py-2 text-soft">No place has “{text}” in its name.</p>}
      <ContextMenu.Root>
        <ContextMenu.Trigger asChild disabled={!engineer}>
          <div
            ref={box}
            role="tree"
            aria-label="Plant"
            aria-multiselectable
            aria-activedescendant={here ? `${id}-${focused}` : undefined}
            tabIndex={0}
            onKeyDown={onKey}
            className="group min-h-0 flex-1 overflow-auto outline-none [contain:strict] [overflow-anchor:none]"
          >
            <div style={{ height: virtual.getTotalSize(), paddingTop: drawn[0]?.start }}>
              {drawn.map((item) => {
                const row = rows[item.index];
                if (!row) return null;
                const { spot, children } = row;
                const { depth, idle } = standing(byId, spot);
                const urgent = mostUrgent(under.get(spot.id) ?? []);
                return (
                  <Row
                    key={spot.id}
                    id={`${id}-${item.index}`}
                    spot={spot}
                    depth={depth}
                    idle={idle}
                    index={item.index}
                    chosen={at === spot.id}
                    picked={chosen.has(spot.id)}
                    cut={clip?.mode === 'cut' && clip.ids.includes(spot.id)}
                    focused={item.index === focused}
                    open={children.length > 0 ? Boolean(text.trim()) || isOpen(spot.id, depth) : undefined}
                    bad={bad.get(spot.id) ?? 0}
                    byHand={byHand.get(spot.id) ?? 0}
                    alarms={inAlarm.get(spot.id) ?? 0}
                    priority={urgent?.priority}
                    state={urgent?.state}
                    drop={drop?.id === spot.id ? drop.zone : undefined}
                    editing={editing?.id === spot.id ? (editing.fresh ? 'under' : 'name') : undefined}
                    movable={engineer}
                    handle={stable}
                  />
                );
              })}
            </div>
          </div>
        </ContextMenu.Trigger>
        {here && engineer && (
          <ContextMenu.Portal>
            <ContextMenu.Content className={MENU} onCloseAutoFocus={(e) => e.preventDefault()}>
              {menu(ContextMenu)}
            </ContextMenu.Content>
          </ContextMenu.Portal>
        )}
      </ContextMenu.Root>
      {deleting && tree && <DeletePlaces tree={tree} ids={deleting} onClose={() => setDeleting(null)} />}
    </div>
  );
}
