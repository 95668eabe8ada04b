// A sheet that is written in like a spreadsheet: cells, ranges, filling, pasting. What is written is staged by whoever shows
// the grid; rows of any number come by their index, as in every sheet.

import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import {
  type ClipboardEvent,
  type KeyboardEvent,
  type RefObject,
  useEffect,
  useId,
  useImperativeHandle,
  useMemo,
  useRef,
  useState,
} from 'react';
import { complain } from './form';
import {
  type CellTrouble,
  type GridColumn,
  type GridRow,
  isShown,
  Line,
  type LineTools,
  type Spot,
  type Typing,
} from './grid-line';
import { type Rows, slotsFor, useRows } from './rows';
import { fromClipboard, series, toClipboard } from './series';
import { ColumnHead, type Order } from './sheet';
import type { Staged, Write } from './staged';
import { Trouble } from './ui';

const ROW = 28;

export type { CellTrouble, GridColumn, GridRow } from './grid-line';
export { cellName, isShown } from './grid-line';

/** Most rows that one stroke writes or copies. */
const MOST = 20_000;

export interface GridHandle {
  /** Goes to a cell. */
  reach: (id: string, key: string) => void;
  /** The rows of the range, or all where only one cell is chosen, with what their cells show. */
  inRange: () => Promise<{ row: GridRow; texts: Record<string, string> }[]>;
  focus: () => void;
}

interface Props<R> {
  label: string;
  columns: readonly GridColumn<R>[];
  source: readonly unknown[];
  fetch: (from: number, count: number) => Promise<Rows<R>>;
  rowOf: (row: R) => GridRow;
  textOf: (row: R, key: string) => string;
  /** Rows to be made stand behind all others. */
  staged: Staged;
  onWrite: (writes: Write[]) => void;
  /** What a new row begins with; without it no rows can be made here. */
  blank?: (() => { row: GridRow; texts: Record<string, string> }) | undefined;
  troubles: ReadonlyMap<string, CellTrouble>;
  onUndo: () => void;
  onSave: () => void;
  writable: boolean;
  open?: string | undefined;
  onOpen?: (row: R) => void;
  order?: Order | undefined;
  onOrder?: (order: Order) => void;
  onCounted?: (total: number) => void;
  handle?: RefObject<GridHandle | null>;
  className?: string;
}

/** From the smaller to the larger of two. */
const span = (a: number, b: number): [number, number] => [Math.min(a, b), Math.max(a, b)];

/** Where a key leads from a cell; undefined for keys that do not move. */
export function stepped(key: string, ctrl: boolean, at: Spot, rows: number, columns: number, page: number): Spot | undefined {
  const steps: Record<string, Spot> = {
    ArrowDown: { row: ctrl ? rows - 1 : at.row + 1, column: at.column },
    ArrowUp: { row: ctrl ? 0 : at.row - 1, column: at.column },
    ArrowRight: { row: at.row, column: ctrl ? columns - 1 : at.column + 1 },
    ArrowLeft: { row: at.row, column: ctrl ? 0 : at.column - 1 },
    PageDown: { row: at.row + page, column: at.column },
    PageUp: { row: at.row - page, column: at.column },
    Home: { row: ctrl ? 0 : at.row, column: 0 },
    End: { row: ctrl ? rows - 1 : at.row, column: columns - 1 },
  };
  const to = steps[key];
  if (!to || rows === 0) return undefined;
  return { row: Math.min(Math.max(to.row, 0), rows - 1), column: Math.min(Math.max(to.column, 0), columns - 1) };
}

export function Grid<R>(props: Props<R>) {
  const { label, columns, source, fetch, rowOf, textOf, staged, onWrite, blank, troubles, writable, open, order, onOrder } =
    props;
  const box = useRef<HTMLDivElement>(null);
  const id = useId();
  const [total, setTotal] = useState(0);
  const [at, setAt] = useState<Spot>({ row: 0, column: 0 });
  const [anchor, setAnchor] = useState<Spot>({ row: 0, column: 0 });
  const [typing, setTyping] = useState<Typing | null>(null);
  const fresh = [...staged.values()].filter((r) => r.fresh);
  const canMake = writable && blank !== undefined;
  const count = total + fresh.length + (canMake ? 1 : 0);
  const virtual = useVirtualizer({
    count,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 8,
    // Rows come with the next frame; drawn within the scroll event they would hold it up.
    useFlushSync: false,
    scrollPaddingEnd: ROW,
    initialRect: { width: 800, height: 400 },
  });
  const drawn = virtual.getVirtualItems();
  const { error, counted, rowAt } = useRows(
    source,
    fetch,
    drawn[0]?.index ?? 0,
    Math.min(drawn.at(-1)?.index ?? 0, Math.max(total - 1, 0)),
  );
  const { onCounted } = props;
  useEffect(() => {
    if (counted === undefined) return;
    setTotal(counted);
    onCounted?.(counted);
  }, [counted, onCounted]);
  const cursor = { row: Math.min(at.row, Math.max(count - 1, 0)), column: Math.min(at.column, columns.length - 1) };
  const [top, bottom] = span(cursor.row, Math.min(anchor.row, Math.max(count - 1, 0)));
  const [left, right] = span(cursor.column, Math.min(anchor.column, columns.length - 1));
  const widths = columns.map((c) => `${c.width}px`).join(' ');
  const lefts = useMemo(() => columns.map((_, i) => columns.slice(0, i).reduce((sum, c) => sum + c.width, 0)), [columns]);
  const width = columns.reduce((sum, c) => sum + c.width, 0);
  const slots = slotsFor(drawn.length);

  /** What stands in a row by its index: of the server, to be made, or none yet. */
  function lineAt(index: number): { row: GridRow; text: (key: string) => string; data: R | undefined } | undefined {
    if (index < total) {
      const data = rowAt(index);
      if (data === undefined) return undefined;
      return { row: rowOf(data), text: (key) => textOf(data, key), data };
    }
    const made = fresh[index - total];
    return made && { row: made, text: () => '', data: undefined };
  }
  const shown = (row: GridRow, text: (key: string) => string, key: string) => staged.get(row.id)?.cells[key]?.text ?? text(key);

  /** The rows from one index to another with what their cells show; rows that are not there yet begin blank. */
  async function lines(from: number, to: number, make: boolean) {
    const found: { row: GridRow; text: (key: string) => string; begin?: Record<string, string> }[] = [];
    const upto = Math.min(to, from + MOST - 1);
    for (let start = from; start <= Math.min(upto, total - 1); start += 500) {
      const size = Math.min(500, Math.min(upto, total - 1) - start + 1);
      const near = Array.from({ length: size }, (_, i) => rowAt(start + i));
      const rows = near.every((r) => r !== undefined) ? near : (await fetch(start, size)).rows;
      for (const data of rows) found.push({ row: rowOf(data), text: (key) => textOf(data, key) });
    }
    for (let index = Math.max(from, total); index <= upto; index += 1) {
      const made = fresh[index - total];
      if (made) found.push({ row: made, text: () => '' });
      else if (make && blank) {
        const { row, texts } = blank();
        found.push({ row, text: () => '', begin: texts });
      }
    }
    return found;
  }

  // Where rows stood that were written, so that each is found again however far it is away; another order is another sheet.
  const written = useRef({ of: '', at: new Map<string, number>() });
  const of = JSON.stringify(source);
  if (written.current.of !== of) written.current = { of, at: new Map() };

  /** Writes texts from a cell on to the right and down; a column that is only shown takes nothing. */
  async function write(from: Spot, texts: readonly (readonly string[])[]) {
    if (!writable || texts.length === 0) return;
    try {
      const rows = await lines(from.row, from.row + texts.length - 1, true);
      const writes: Write[] = [];
      rows.forEach(({ row, text, begin }, i) => {
        written.current.at.set(row.id, from.row + i);
        for (const [key, first] of Object.entries(begin ?? {})) writes.push({ row, key, text: first, was: '' });
        texts[i]?.forEach((cell, n) => {
          const column = columns[from.column + n];
          if (column && !isShown(column)) writes.push({ row, key: column.key, text: cell, was: text(column.key) });
        });
      });
      onWrite(writes);
    } catch (reason) {
      complain(reason);
    }
  }

  async function texts(): Promise<string[][]> {
    const rows = await lines(top, bottom, false);
    return rows.map(({ row, text }) => columns.slice(left, right + 1).map((c) => shown(row, text, c.key)));
  }

  async function fill(counting: boolean) {
    // One cell alone is filled down to the end.
    const last = top === bottom ? total + fresh.length - 1 : bottom;
    if (last <= top) return;
    const rows = await lines(top, last, false);
    const filledColumns = columns.slice(left, right + 1).map((c) => {
      const [first, second] = rows.slice(0, 2).map(({ row, text }) => shown(row, text, c.key));
      return series(first ?? '', second, rows.length, counting);
    });
    await write(
      { row: top, column: left },
      rows.map((_, i) => filledColumns.map((list) => list[i] ?? '')),
    );
  }

  function reach(to: Spot, extend = false) {
    setAt(to);
    if (!extend) setAnchor(to);
    virtual.scrollToIndex(to.row);
    const width = columns[to.column]?.width ?? 0;
    const [begin, view] = [lefts[to.column] ?? 0, box.current];
    const pinned = columns.reduce((sum, c) => sum + (c.pinned ? c.width : 0), 0);
    if (!view || columns[to.column]?.pinned) return;
    if (begin < view.scrollLeft + pinned) view.scrollLeft = begin - pinned;
    else if (begin + width > view.scrollLeft + view.clientWidth) view.scrollLeft = begin + width - view.clientWidth;
  }

  useImperativeHandle(props.handle, () => ({
    focus: () => box.current?.focus(),
    reach: (rowId, key) => {
      const column = columns.findIndex((c) => c.key === key);
      const made = fresh.findIndex((r) => r.id === rowId);
      const near = drawn.find((item) => lineAt(item.index)?.row.id === rowId)?.index;
      const row = made >= 0 ? total + made : (near ?? written.current.at.get(rowId));
      if (row !== undefined) reach({ row, column: Math.max(column, 0) });
      box.current?.focus();
    },
    inRange: async () => {
      const all = top === bottom;
      const rows = await lines(all ? 0 : top, all ? total + fresh.length - 1 : bottom, false);
      return rows.map(({ row, text }) => ({
        row,
        texts: Object.fromEntries(columns.filter((c) => !isShown(c)).map((c) => [c.key, shown(row, text, c.key)])),
      }));
    },
  }));

  const line = lineAt(cursor.row);
  const column = columns[cursor.column];
  const editable = writable && column !== undefined && !isShown(column);

  // The field is left when typing ends by a key, which must not count twice.
  const ending = useRef(false);
  function end(take: boolean, then?: Spot) {
    if (typing && take) void write(cursor, [[typing.text]]);
    setTyping(null);
    ending.current = true;
    box.current?.focus({ preventScroll: true });
    ending.current = false;
    if (then)
      reach({ row: Math.min(Math.max(then.row, 0), count - 1), column: Math.min(Math.max(then.column, 0), columns.length - 1) });
  }

  function onType(event: KeyboardEvent) {
    event.stopPropagation();
    const { row, column: c } = cursor;
    if (event.key === 'Enter') end(true, { row: row + (event.shiftKey ? -1 : 1), column: c });
    else if (event.key === 'Tab') end(true, { row, column: c + (event.shiftKey ? -1 : 1) });
    else if (event.key === 'Escape') end(false);
    else if (typing?.whole && (event.key === 'ArrowDown' || event.key === 'ArrowUp') && !column?.offers)
      end(true, { row: row + (event.key === 'ArrowDown' ? 1 : -1), column: c });
    else return;
    event.preventDefault();
  }

  function onKey(event: KeyboardEvent) {
    if (event.target !== box.current) return;
    const ctrl = event.ctrlKey || event.metaKey;
    const key = event.key.toLowerCase();
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? ROW) / ROW) - 2);
    const to = event.altKey ? undefined : stepped(event.key, ctrl, cursor, count, columns.length, page);
    if (to) reach(to, event.shiftKey);
    else if (ctrl && key === 'a') {
      setAnchor({ row: 0, column: 0 });
      setAt({ row: Math.max(total + fresh.length - 1, 0), column: columns.length - 1 });
    } else if (ctrl && key === 'd' && writable) void fill(event.shiftKey);
    else if (ctrl && key === 'z' && writable) props.onUndo();
    else if (ctrl && key === 's' && writable) props.onSave();
    else if (ctrl || event.altKey) return;
    else if (event.key === 'F2' && editable)
      setTyping({ text: line ? shown(line.row, line.text, column.key) : '', whole: false });
    else if (event.key === 'Enter') {
      if (line?.data !== undefined && !event.shiftKey) props.onOpen?.(line.data);
    } else if ((event.key === 'Delete' || event.key === 'Backspace') && writable)
      void write(
        { row: top, column: left },
        Array.from({ length: Math.min(bottom - top + 1, MOST) }, () => columns.slice(left, right + 1).map(() => '')),
      );
    else if (event.key === 'Escape') setAnchor(cursor);
    else if (event.key.length === 1 && editable) {
      if (event.key === ' ' && column.offers?.join() === 'yes,no' && line) {
        void write(cursor, [[shown(line.row, line.text, column.key) === 'yes' ? 'no' : 'yes']]);
      } else setTyping({ text: event.key, whole: true });
    } else return;
    event.preventDefault();
  }

  function onCopy(event: ClipboardEvent) {
    if (event.target !== box.current) return;
    event.preventDefault();
    // What is far away must be fetched first, which the event does not wait for.
    texts()
      .then((rows) => navigator.clipboard.writeText(toClipboard(rows)))
      .catch(complain);
  }

  function onPaste(event: ClipboardEvent) {
    if (event.target !== box.current) return;
    event.preventDefault();
    const pasted = fromClipboard(event.clipboardData.getData('text'));
    const single = pasted.length === 1 && pasted[0]?.length === 1;
    // One cell pasted onto a range fills the range.
    const rows = single
      ? Array.from({ length: bottom - top + 1 }, () => columns.slice(left, right + 1).map(() => pasted[0]?.[0] ?? ''))
      : pasted;
    void write({ row: top, column: left }, rows.slice(0, MOST));
    if (!single) setAnchor({ row: top + rows.length - 1, column: Math.min(left + (rows[0]?.length ?? 1), columns.length) - 1 });
  }

  const tools = useRef<LineTools<R>>(null as unknown as LineTools<R>);
  tools.current = {
    rowOf,
    textOf,
    press: (spot, extend) => {
      if (typing) end(true);
      box.current?.focus({ preventScroll: true });
      setAt(spot);
      if (!extend) setAnchor(spot);
    },
    drag: (spot) => !typing && setAt(spot),
    type: (text) => writable && setTyping({ text, whole: false }),
    open: (data) => props.onOpen?.(data),
    typed: (text) => setTyping((old) => old && { ...old, text }),
    key: onType,
    leave: () => typing && !ending.current && end(true),
  };

  return (
    <>
      <Trouble error={error} />
      <div
        ref={box}
        role="grid"
        aria-label={label}
        aria-rowcount={count + 1}
        aria-colcount={columns.length}
        aria-multiselectable
        aria-activedescendant={`${id}-${cursor.row}-${cursor.column}`}
        tabIndex={0}
        onKeyDown={onKey}
        onCopy={onCopy}
        onPaste={onPaste}
        className={clsx('group overflow-auto border border-line bg-raised outline-none [contain:strict]', props.className)}
      >
        <div
          role="row"
          aria-rowindex={1}
          tabIndex={-1}
          className="sticky top-0 z-20 grid h-7 w-max bg-band text-sm"
          style={{ gridTemplateColumns: widths }}
        >
          {columns.map((c, i) => {
            const chosen = order?.key === c.key;
            return (
              <div
                key={c.key}
                role="columnheader"
                tabIndex={-1}
                aria-sort={chosen ? (order.down ? 'descending' : 'ascending') : undefined}
                className={clsx(
                  'flex items-center truncate bg-band px-2 font-semibold',
                  c.right && 'justify-end',
                  c.pinned && 'sticky z-10',
                )}
                style={c.pinned ? { left: lefts[i] } : undefined}
              >
                <ColumnHead column={c} order={order} onOrder={onOrder} />
              </div>
            );
          })}
        </div>
        <div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize(), width }}>
          {drawn.map((item) => {
            const here = lineAt(item.index);
            const inRange = item.index >= top && item.index <= bottom;
            const holds = item.index === cursor.row;
            return (
              <Line
                // A row that leaves at one end comes in at the other: scrolling makes no new elements.
                key={item.index % slots}
                id={id}
                index={item.index}
                start={item.start}
                data={here?.data}
                made={here?.data === undefined ? here?.row : undefined}
                staged={here && staged.get(here.row.id)}
                empty={item.index >= total + fresh.length}
                columns={columns}
                widths={widths}
                width={width}
                lefts={lefts}
                opened={here !== undefined && open === here.row.id}
                cursor={holds ? cursor.column : -1}
                left={inRange ? left : -1}
                right={inRange ? right : -1}
                several={top !== bottom || left !== right}
                typing={holds ? typing : null}
                troubles={troubles}
                tools={tools as RefObject<LineTools<unknown>>}
              />
            );
          })}
        </div>
      </div>
    </>
  );
}
