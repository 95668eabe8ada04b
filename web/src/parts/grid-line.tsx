// One row of a sheet that is written in. It is drawn anew only when it changes, however fast the sheet is scrolled.

import clsx from 'clsx';
import { type KeyboardEvent, memo, type ReactNode, type RefObject } from 'react';
import { type Dragged, dragItem } from './drag';
import type { StagedRow } from './staged';
import { mayOverflow } from './text';

export interface GridColumn<R> {
  key: string;
  title: string;
  /** In pixels. */
  width: number;
  right?: boolean;
  sort?: boolean;
  /** Words that are offered while typing. */
  offers?: readonly string[];
  /** A shorter way to show what the cell says. */
  print?: (text: string) => string;
  /** Stays in sight while the sheet moves sideways. */
  pinned?: boolean;
  /** Is only shown, this way; it cannot be written. */
  show?: (row: R) => ReactNode;
  /** Is only told, in these words. */
  say?: (row: R) => string;
  /** What can be dragged from it into a field that chooses one. */
  carries?: (row: R) => Dragged;
}

/** Whether a column cannot be written. */
export const isShown = <R,>(column: GridColumn<R>) => column.show !== undefined || column.say !== undefined;

/** A row as writing sees it. */
export interface GridRow {
  id: string;
  fresh: boolean;
  label: string;
}

/** What a cell is told: what is wrong, and what somebody else has put there. */
export interface CellTrouble {
  message: string;
  now?: string | undefined;
}

export interface Spot {
  row: number;
  column: number;
}

/** What is being typed; with `whole` it takes the place of what the cell said. */
export interface Typing {
  text: string;
  whole: boolean;
}

const CARRY = 'Drag it into a field that chooses a tag.';

/** Names a cell of the troubles. */
export const cellName = (id: string, key: string) => `${id} ${key}`;

/** What rows ask of their sheet. */
export interface LineTools<R> {
  rowOf: (data: R) => GridRow;
  textOf: (data: R, key: string) => string;
  press: (spot: Spot, extend: boolean) => void;
  drag: (spot: Spot) => void;
  /** Begins to type, with this text. */
  type: (text: string) => void;
  open: (data: R) => void;
  typed: (text: string) => void;
  key: (event: KeyboardEvent) => void;
  /** The field was left. */
  leave: () => void;
}

interface Props<R> {
  /** Of the sheet: cells are named after it. */
  id: string;
  index: number;
  start: number;
  /** What the server has of it. */
  data: R | undefined;
  /** A row to be made. */
  made: GridRow | undefined;
  staged: StagedRow | undefined;
  /** The one behind all others, for the next that is made. */
  empty: boolean;
  columns: readonly GridColumn<R>[];
  widths: string;
  /** Of all columns together: a row that knows its size is laid out by itself. */
  width: number;
  lefts: readonly number[];
  opened: boolean;
  /** The column of the cursor where it stands here, or -1. */
  cursor: number;
  /** The columns of the range where it reaches here, or -1. */
  left: number;
  right: number;
  /** The range holds more than one cell. */
  several: boolean;
  typing: Typing | null;
  troubles: ReadonlyMap<string, CellTrouble>;
  /** The same for as long as the sheet lives. */
  tools: RefObject<LineTools<R>>;
}

function LineOf<R>(props: Props<R>) {
  const { id, index, data, made, staged, empty, columns, lefts, opened, cursor, left, right, several, typing, troubles, tools } =
    props;
  const row = data === undefined ? made : tools.current.rowOf(data);
  const said = (key: string) => staged?.cells[key]?.text ?? (data === undefined ? '' : tools.current.textOf(data, key));
  const told = (c: GridColumn<R>) => (c.say ? (data === undefined ? '' : c.say(data)) : (c.print ?? String)(said(c.key)));
  return (
    <div
      role="row"
      tabIndex={-1}
      aria-rowindex={index + 2}
      aria-selected={opened}
      // A layer of its own: what is scrolled is moved, not painted anew.
      className="absolute left-0 grid h-7 border-t border-line will-change-transform [contain:layout_size_style]"
      style={{ gridTemplateColumns: props.widths, width: props.width, transform: `translateY(${props.start}px)` }}
    >
      {columns.map((c, i) => {
        const here = i === cursor;
        const inside = i >= left && i <= right && left >= 0;
        const cell = staged?.cells[c.key];
        const trouble = row && troubles.get(cellName(row.id, c.key));
        const edits = here && typing !== null;
        const text = row && !c.show ? told(c) : '';
        const long = mayOverflow(text, c.width - 16);
        // What the cell has no room for, or says in a shorter way.
        const carried = data !== undefined ? c.carries?.(data) : undefined;
        const full = c.say ? text : c.print && row ? said(c.key) : text;
        const hidden = long || full !== text ? full : undefined;
        return (
          // biome-ignore lint/a11y/useKeyWithClickEvents: the grid takes the keys of all its cells
          <div
            key={c.key}
            // The sheet names only the one under the cursor.
            id={here ? `${id}-${index}-${i}` : undefined}
            role="gridcell"
            tabIndex={-1}
            aria-selected={inside}
            aria-invalid={trouble !== undefined}
            draggable={carried !== undefined}
            onDragStart={(e) => carried && dragItem(e.dataTransfer, carried)}
            title={trouble?.message ?? (cell ? (row?.fresh ? undefined : `was “${cell.was}”`) : carried ? CARRY : hidden)}
            className={clsx(
              'px-2 leading-7 whitespace-nowrap',
              long && 'truncate',
              (cell || edits) && 'relative',
              c.say && 'text-soft',
              c.right && 'text-right',
              carried && 'cursor-grab',
              c.pinned && 'sticky z-10',
              opened || (inside && several) ? 'bg-tint' : 'bg-raised',
              here &&
                'outline-1 -outline-offset-1 outline-line group-focus-visible:outline-2 group-focus-visible:-outline-offset-2 group-focus-visible:outline-teal',
              cell && 'font-semibold',
              trouble && 'text-act4 underline decoration-wavy decoration-1',
            )}
            style={c.pinned ? { left: lefts[i] } : undefined}
            onMouseDown={(e) => {
              if (edits || e.button !== 0) return;
              // A press that may begin a drag is left to the browser.
              if (!carried) e.preventDefault();
              tools.current.press({ row: index, column: i }, e.shiftKey);
            }}
            // The press gave the focus to the cell; the keys belong to the grid.
            onMouseUp={(e) => carried && e.currentTarget.closest<HTMLElement>('[role=grid]')?.focus({ preventScroll: true })}
            onMouseEnter={(e) => e.buttons === 1 && tools.current.drag({ row: index, column: i })}
            onDoubleClick={() => !isShown(c) && tools.current.type(said(c.key))}
            onClick={(e) => !e.shiftKey && c.pinned && data !== undefined && tools.current.open(data)}
          >
            {cell && <span aria-hidden className="absolute top-0 left-0 h-full w-0.5 bg-teal" />}
            {edits ? (
              <>
                <input
                  // biome-ignore lint/a11y/noAutofocus: it opens because somebody types here
                  autoFocus
                  aria-label={`${c.title} of ${row?.label ?? 'the new row'}`}
                  className={clsx(
                    'absolute inset-0 z-20 border-2 border-teal bg-raised px-1.5 font-normal',
                    c.right && 'text-right',
                  )}
                  list={c.offers ? `${id}-${c.key}` : undefined}
                  value={typing.text}
                  autoComplete="off"
                  spellCheck={false}
                  onFocus={(e) => !typing.whole && e.currentTarget.select()}
                  onChange={(e) => tools.current.typed(e.target.value)}
                  onKeyDown={(e) => tools.current.key(e)}
                  onBlur={() => tools.current.leave()}
                />
                {c.offers && (
                  <datalist id={`${id}-${c.key}`}>
                    {c.offers.slice(0, 500).map((o) => (
                      <option key={o} value={o} />
                    ))}
                  </datalist>
                )}
              </>
            ) : row ? (
              c.show ? (
                data !== undefined && c.show(data)
              ) : (
                text
              )
            ) : (
              <span className="text-soft">{empty ? (i === 0 ? 'New tag…' : '') : '…'}</span>
            )}
          </div>
        );
      })}
    </div>
  );
}

export const Line = memo(LineOf) as typeof LineOf;
