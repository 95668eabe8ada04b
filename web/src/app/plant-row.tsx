// One place in the plant column.

import clsx from 'clsx';
import { ChevronRight } from 'lucide-react';
import { type DragEvent, type MouseEvent, memo, type RefObject, useState } from 'react';
import type { AlarmState } from '../api/alarm-state';
import type { Spot } from '../api/places';
import { Pips } from '../parts/pips';
import { mayOverflow } from '../parts/text';

export const ROW = 26;

/** Where over a row something is held. */
export type Zone = 'before' | 'into' | 'after';

/** What rows tell the column. */
export interface Handle {
  choose: (spot: Spot, index: number, event: MouseEvent) => void;
  fold: (id: string, open: boolean) => void;
  menu: (spot: Spot) => void;
  drag: (spot: Spot, event: DragEvent) => void;
  over: (spot: Spot, event: DragEvent) => void;
  drop: (spot: Spot, event: DragEvent) => void;
  end: () => void;
  /** A name was typed, or nothing where it was left. */
  named: (name: string | undefined) => void;
}

interface RowProps {
  id: string;
  spot: Spot;
  depth: number;
  /** It, or a place above it, is out of service. */
  idle: boolean;
  index: number;
  /** Scopes every desk. */
  chosen: boolean;
  /** Goes along with what is done to others. */
  picked: boolean;
  cut: boolean;
  focused: boolean;
  /** Undefined where there is nothing under it. */
  open: boolean | undefined;
  bad: number;
  alarms: number;
  /** Values that are set by hand in it or under it. */
  byHand: number;
  priority: number | undefined;
  state: AlarmState | undefined;
  drop: Zone | undefined;
  /** Its name is being typed, or that of a place under it. */
  editing: 'name' | 'under' | undefined;
  movable: boolean;
  /** The same for as long as the column lives, so that only rows that changed are drawn anew. */
  handle: RefObject<Handle>;
}

/** A place. Large plants have thousands, and something changes somewhere every second: it is drawn only when it changes. */
export const Row = memo(function Row(props: RowProps) {
  const { spot, depth, idle, index, chosen, picked, open, bad, alarms, byHand, priority, state, drop, editing, handle } = props;
  const words = [
    idle && 'out of service',
    bad > 0 && `${bad} bad`,
    alarms > 0 && `${alarms} in alarm`,
    byHand > 0 && `${byHand} set by hand`,
  ].filter(Boolean);
  const badges = words.length > 0;
  return (
    <div
      id={props.id}
      role="treeitem"
      tabIndex={-1}
      aria-selected={chosen || picked}
      aria-level={depth + 1}
      aria-expanded={open}
      aria-label={[spot.name, ...words].join(', ')}
      draggable={props.movable && !editing}
      onClick={(e) => handle.current.choose(spot, index, e)}
      onKeyDown={() => undefined}
      onContextMenu={() => handle.current.menu(spot)}
      onDragStart={(e) => handle.current.drag(spot, e)}
      onDragOver={(e) => handle.current.over(spot, e)}
      onDrop={(e) => handle.current.drop(spot, e)}
      onDragEnd={() => handle.current.end()}
      className={clsx(
        'flex cursor-pointer items-center border-l-[3px] pr-3',
        chosen ? 'border-teal font-semibold' : 'border-transparent',
        chosen || picked ? 'bg-tint' : 'hover:bg-band',
        drop && 'relative',
        drop === 'into' && 'outline-2 -outline-offset-2 outline-teal',
        props.cut && 'opacity-50',
        props.focused && 'group-focus-visible:outline-2 group-focus-visible:-outline-offset-2 group-focus-visible:outline-teal',
      )}
      style={{ height: ROW, paddingLeft: `${depth * 14 + 4}px` }}
    >
      {(drop === 'before' || drop === 'after') && (
        <span className={clsx('absolute right-0 left-2 h-0.5 bg-teal', drop === 'before' ? '-top-px' : '-bottom-px')} />
      )}
      <span className="flex w-5 shrink-0 justify-center">
        {open !== undefined && (
          <button
            type="button"
            tabIndex={-1}
            aria-label={open ? `Close ${spot.name}` : `Open ${spot.name}`}
            onClick={(e) => {
              e.stopPropagation();
              handle.current.fold(spot.id, !open);
            }}
          >
            <ChevronRight className={clsx('size-3.5 text-soft', open && 'rotate-90')} />
          </button>
        )}
      </span>
      {editing === 'name' ? (
        <Naming label={`Name of ${spot.name}`} start={spot.name} onDone={(name) => handle.current.named(name)} />
      ) : (
        <span
          className={clsx(
            'min-w-0 flex-1 whitespace-nowrap',
            (badges || mayOverflow(spot.name, 190 - depth * 14)) && 'truncate',
            idle && 'text-soft italic',
          )}
        >
          {spot.name}
        </span>
      )}
      {editing === 'under' && (
        <Naming label={`New place under ${spot.name}`} start="" onDone={(name) => handle.current.named(name)} />
      )}
      {!spot.in_service && (
        <span className="ml-2 text-sm text-soft" aria-hidden>
          out
        </span>
      )}
      {byHand > 0 && (
        <span className="ml-2 text-sm" title={`${byHand} set by hand`} aria-hidden>
          ✎ <span className="figures">{byHand}</span>
        </span>
      )}
      {bad > 0 && (
        <span className="ml-2 text-sm text-act4" aria-hidden>
          ⨯ <span className="figures">{bad}</span>
        </span>
      )}
      {priority !== undefined && state !== undefined && alarms > 0 && (
        <span className="ml-2 flex items-center gap-1.5 text-sm">
          <Pips priority={priority} state={state} />
          <span className="figures min-w-4 text-right">{alarms}</span>
        </span>
      )}
    </div>
  );
});

/** A name that is typed where it will stand. */
function Naming({ label, start, onDone }: { label: string; start: string; onDone: (name: string | undefined) => void }) {
  const [name, setName] = useState(start);
  return (
    <input
      // biome-ignore lint/a11y/noAutofocus: it opens because somebody asked to type here
      autoFocus
      aria-label={label}
      placeholder={label}
      className="h-5.5 min-w-0 flex-1 rounded border border-teal bg-raised px-1 font-normal"
      value={name}
      autoComplete="off"
      spellCheck={false}
      onFocus={(e) => e.currentTarget.select()}
      onChange={(e) => setName(e.target.value)}
      onClick={(e) => e.stopPropagation()}
      onKeyDown={(e) => {
        e.stopPropagation();
        if (e.key === 'Enter') onDone(name.trim());
        if (e.key === 'Escape') onDone(undefined);
      }}
      onBlur={() => onDone(name.trim() === start ? undefined : name.trim())}
    />
  );
}
