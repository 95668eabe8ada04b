// The plant, always there: choosing a place scopes every desk.

import clsx from 'clsx';
import { ChevronRight } from 'lucide-react';
import { type KeyboardEvent, memo, useMemo, useRef, useState } from 'react';
import { useStatus } from '../api/live';
import { useAlarms, useItems } from '../api/queries';
import { mostUrgent, type PipState, Pips } from '../parts/pips';
import { useGo, useView } from './router';
import { alarmsUnder, rowsOf, sumsUnder, treeOf } from './tree';

const CLOSED = 'havrel:closed-places';

function useClosed(): [Set<string>, (id: string, closed: boolean) => void] {
  const [closed, setClosed] = useState(() => new Set<string>(JSON.parse(localStorage.getItem(CLOSED) ?? '[]') as string[]));
  const set = (id: string, on: boolean) => {
    const next = new Set(closed);
    if (on) next.add(id);
    else next.delete(id);
    localStorage.setItem(CLOSED, JSON.stringify([...next]));
    setClosed(next);
  };
  return [closed, set];
}

export function PlantColumn() {
  const places = useItems('place');
  const alarms = useAlarms();
  const { at } = useView();
  const go = useGo();
  const [closed, setClosed] = useClosed();
  const list = useRef<HTMLDivElement>(null);
  const items = useMemo(() => places.data?.items ?? [], [places.data]);
  const rows = useMemo(() => rowsOf(treeOf(items), (id) => !closed.has(id)), [items, closed]);
  const under = useMemo(() => alarmsUnder(items, alarms.data?.alarms ?? []), [items, alarms.data]);

  const status = useStatus();
  const bad = useMemo(() => sumsUnder(items, status?.bad ?? {}), [items, status]);

  function onKey(event: KeyboardEvent, index: number) {
    const row = rows[index];
    if (!row) return;
    const focus = (to: number) => list.current?.querySelectorAll<HTMLElement>('[role=treeitem]')[to]?.focus();
    const id = row.node.item.id;
    const open = row.node.children.length > 0 && !closed.has(id);
    if (event.key === 'ArrowDown') focus(index + 1);
    else if (event.key === 'ArrowUp') focus(index - 1);
    else if (event.key === 'ArrowRight' && row.node.children.length > 0) open ? focus(index + 1) : setClosed(id, false);
    else if (event.key === 'ArrowLeft') {
      if (open) setClosed(id, true);
      else focus(rows.findIndex((r) => r.node.item.id === row.node.item.set.parent));
    } else if (event.key === 'Enter' || event.key === ' ') go({ at: id });
    else return;
    event.preventDefault();
  }

  const now = useRef({ onKey, go, setClosed });
  now.current = { onKey, go, setClosed };
  // The same for as long as the column lives, so that only rows that changed are drawn anew.
  const acts = useMemo<Acts>(
    () => ({
      press: (event, index) => now.current.onKey(event, index),
      choose: (id) => now.current.go({ at: id }),
      close: (id, on) => now.current.setClosed(id, on),
    }),
    [],
  );

  return (
    <div className="py-2">
      <button
        type="button"
        onClick={() => go({ at: undefined })}
        className={clsx('w-full px-3.5 py-1 text-left font-semibold', !at ? 'bg-tint' : 'hover:bg-band')}
        aria-current={!at}
      >
        Whole plant
      </button>
      {places.data && rows.length === 0 && (
        <p className="px-3.5 py-2 text-soft">No places yet. They come with the first tags, or on the desk Model.</p>
      )}
      <div role="tree" aria-label="Plant" ref={list}>
        {rows.map(({ node, depth }, index) => {
          const { id, set } = node.item;
          const here = under.get(id) ?? [];
          const urgent = mostUrgent(here.map((a) => ({ ...a, state: a.state as PipState })));
          return (
            <Row
              key={id}
              id={id}
              name={set.name}
              depth={depth}
              index={index}
              chosen={at === id}
              first={!at && index === 0}
              open={node.children.length > 0 ? !closed.has(id) : undefined}
              bad={bad.get(id) ?? 0}
              alarms={here.length}
              priority={urgent?.priority}
              state={urgent?.state}
              acts={acts}
            />
          );
        })}
      </div>
    </div>
  );
}

interface Acts {
  press: (event: KeyboardEvent, index: number) => void;
  choose: (id: string) => void;
  close: (id: string, on: boolean) => void;
}

interface RowProps {
  id: string;
  name: string;
  depth: number;
  index: number;
  chosen: boolean;
  /** Takes the focus while nothing is chosen. */
  first: boolean;
  /** Undefined where there is nothing under it. */
  open: boolean | undefined;
  bad: number;
  alarms: number;
  priority: number | undefined;
  state: PipState | undefined;
  acts: Acts;
}

/** A place. Large plants have thousands, and something changes somewhere every second: it is drawn only when it changes. */
const Row = memo(function Row({ id, name, depth, index, chosen, first, open, bad, alarms, priority, state, acts }: RowProps) {
  return (
    <div
      role="treeitem"
      tabIndex={chosen || first ? 0 : -1}
      aria-selected={chosen}
      aria-level={depth + 1}
      aria-expanded={open}
      onClick={() => acts.choose(id)}
      onKeyDown={(e) => acts.press(e, index)}
      className={clsx(
        'flex h-6.5 cursor-pointer items-center border-l-[3px] pr-3',
        chosen ? 'border-teal bg-tint font-semibold' : 'border-transparent hover:bg-band',
      )}
      style={{ paddingLeft: `${depth * 14 + 4}px` }}
    >
      <span className="flex w-5 shrink-0 justify-center">
        {open !== undefined && (
          <button
            type="button"
            tabIndex={-1}
            aria-label={open ? `Close ${name}` : `Open ${name}`}
            onClick={(e) => {
              e.stopPropagation();
              acts.close(id, open);
            }}
          >
            <ChevronRight className={clsx('size-3.5 text-soft', open && 'rotate-90')} />
          </button>
        )}
      </span>
      <span className="min-w-0 flex-1 truncate">{name}</span>
      {bad > 0 && (
        <span className="ml-2 text-sm text-act4" role="img" aria-label={`${bad} tags are bad`}>
          ⨯ <span className="figures">{bad}</span>
        </span>
      )}
      {priority !== undefined && state !== undefined && (
        <span className="ml-2 flex items-center gap-1.5 text-sm">
          <Pips priority={priority} state={state} />
          <span className="figures w-4 text-right">{alarms}</span>
        </span>
      )}
    </div>
  );
});
