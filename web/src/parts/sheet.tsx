// A sheet: rows of a list of any length by their index. Only what is on the screen is fetched and drawn.

import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { ArrowDown, ArrowUp } from 'lucide-react';
import { type KeyboardEvent, type ReactNode, useEffect, useId, useRef, useState } from 'react';
import { type Rows, slotsFor, useRows } from './rows';
import { Trouble } from './ui';

const ROW = 28;

export interface Column<R> {
  key: string;
  title: string;
  /** A track of a CSS grid. */
  width: string;
  right?: boolean;
  /** The server can order by it, under its key. */
  sort?: boolean;
  render: (row: R) => ReactNode;
}

export interface Order {
  key: string;
  down: boolean;
}

interface Props<R> {
  label: string;
  columns: readonly Column<R>[];
  /** What the rows depend on; another key is another list. */
  source: readonly unknown[];
  fetch: (from: number, count: number) => Promise<Rows<R>>;
  /** How many rows there are, where whoever shows them knows better than each answer. */
  rows?: number | undefined;
  idOf: (row: R) => string;
  /** The row that is open elsewhere. */
  open?: string | undefined;
  onOpen?: (row: R) => void;
  order?: Order | undefined;
  onOrder?: (order: Order) => void;
  /** Says how many there are, and whether the first row is in sight. */
  onSeen?: (total: number, atTop: boolean) => void;
  className?: string;
}

/** Where a key leads from a row; undefined for keys that do not move. */
export function moved(key: string, at: number, total: number, page: number): number | undefined {
  const steps: Record<string, number> = {
    ArrowDown: at + 1,
    ArrowUp: at - 1,
    PageDown: at + page,
    PageUp: at - page,
    Home: 0,
    End: total - 1,
  };
  const to = steps[key];
  return to === undefined || total === 0 ? undefined : Math.min(Math.max(to, 0), total - 1);
}

/** The title of a column; pressed, it orders the sheet. */
export function ColumnHead({
  column,
  order,
  onOrder,
}: {
  column: { key: string; title: string; sort?: boolean };
  order: Order | undefined;
  onOrder: ((order: Order) => void) | undefined;
}) {
  if (!column.sort || !onOrder) return column.title;
  const chosen = order?.key === column.key;
  return (
    <button
      type="button"
      className="flex min-w-0 items-center gap-1 hover:text-teal"
      onClick={() => onOrder({ key: column.key, down: chosen && !order.down })}
    >
      <span className="truncate">{column.title}</span>
      {chosen && (order.down ? <ArrowDown className="size-3 shrink-0" /> : <ArrowUp className="size-3 shrink-0" />)}
    </button>
  );
}

export function Sheet<R>({
  label,
  columns,
  source,
  fetch,
  rows,
  idOf,
  open,
  onOpen,
  order,
  onOrder,
  onSeen,
  className,
}: Props<R>) {
  const box = useRef<HTMLDivElement>(null);
  const id = useId();
  const [active, setActive] = useState(0);
  const [found, setTotal] = useState(0);
  const total = rows ?? found;
  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 8,
    useFlushSync: false,
    // The head takes its place in the scrolled content: rows stand lower by it than is reckoned here.
    scrollPaddingEnd: ROW,
    initialRect: { width: 800, height: 400 },
  });
  const drawn = virtual.getVirtualItems();
  const { error, counted, rowAt } = useRows(source, fetch, drawn[0]?.index ?? 0, drawn.at(-1)?.index ?? 0);
  useEffect(() => {
    if (counted !== undefined) setTotal(counted);
  }, [counted]);
  const atTop = (drawn.find((item) => item.end > (virtual.scrollOffset ?? 0))?.index ?? 0) === 0;
  useEffect(() => onSeen?.(total, atTop), [total, atTop, onSeen]);

  const at = Math.min(active, Math.max(0, total - 1));

  function onKey(event: KeyboardEvent) {
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? ROW) / ROW) - 2);
    const to = moved(event.key, at, total, page);
    if (to !== undefined) {
      setActive(to);
      virtual.scrollToIndex(to);
    } else if (event.key === 'Enter' && event.target === box.current) {
      const row = rowAt(at);
      if (row) onOpen?.(row);
    } else return;
    event.preventDefault();
  }

  const slots = slotsFor(drawn.length);
  const grid = { gridTemplateColumns: columns.map((c) => c.width).join(' ') };
  return (
    <>
      <Trouble error={error} />
      <div
        ref={box}
        role="grid"
        aria-label={label}
        aria-rowcount={total + 1}
        aria-colcount={columns.length}
        aria-activedescendant={rowAt(at) ? `${id}-${at}` : undefined}
        tabIndex={0}
        onKeyDown={onKey}
        className={clsx('overflow-auto border border-line bg-raised [contain:strict]', className)}
      >
        <div
          role="row"
          aria-rowindex={1}
          tabIndex={-1}
          className="sticky top-0 z-10 grid h-7 min-w-max bg-band text-sm"
          style={grid}
        >
          {columns.map((column) => {
            const chosen = order?.key === column.key;
            return (
              <div
                key={column.key}
                role="columnheader"
                tabIndex={-1}
                aria-sort={chosen ? (order.down ? 'descending' : 'ascending') : undefined}
                className={clsx('flex items-center truncate px-2 font-semibold', column.right && 'justify-end')}
              >
                <ColumnHead column={column} order={order} onOrder={onOrder} />
              </div>
            );
          })}
        </div>
        <div role="rowgroup" className="relative min-w-max" style={{ height: virtual.getTotalSize() }}>
          {drawn.map((item) => {
            const row = rowAt(item.index);
            return (
              // biome-ignore lint/a11y/useKeyWithClickEvents: the grid takes the keys of all its rows
              <div
                // A row that leaves at one end comes in at the other: scrolling makes no new elements.
                key={item.index % slots}
                id={`${id}-${item.index}`}
                role="row"
                tabIndex={-1}
                aria-rowindex={item.index + 2}
                aria-selected={row !== undefined && open === idOf(row)}
                className={clsx(
                  'absolute right-0 left-0 grid h-7 items-center border-t border-line hover:bg-band',
                  row !== undefined && open === idOf(row) && 'bg-tint',
                  item.index === at &&
                    'in-focus-visible:outline-2 in-focus-visible:-outline-offset-2 in-focus-visible:outline-teal',
                )}
                style={{ ...grid, transform: `translateY(${item.start}px)` }}
                onClick={() => {
                  setActive(item.index);
                  if (row) onOpen?.(row);
                }}
              >
                {columns.map((column) => (
                  <div
                    key={column.key}
                    role="gridcell"
                    tabIndex={-1}
                    className={clsx('min-w-0 truncate px-2', column.right && 'text-right')}
                  >
                    {row === undefined ? <span className="text-soft">…</span> : column.render(row)}
                  </div>
                ))}
              </div>
            );
          })}
        </div>
      </div>
    </>
  );
}
