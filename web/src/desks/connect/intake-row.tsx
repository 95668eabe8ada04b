// One row of the intake: what was found, and the tag it is to be. It is drawn anew only when it changes.

import clsx from 'clsx';
import { X } from 'lucide-react';
import { type ClipboardEvent, type KeyboardEvent, memo, type RefObject, useState } from 'react';
import type { Schemas } from '../../api/client';
import type { Group, Item, Point } from '../../api/model';
import { usePointCheck } from '../../app/tag-settings';
import { Choice, INPUT } from '../../parts/ui';
import type { Candidate, Fix, Typed } from './candidates';

export const ROW = 32;
export const TITLES: Record<Typed, string> = {
  name: 'Name',
  place: 'Place',
  unit: 'Unit',
  decimals: 'Decimals',
  low: 'Range from',
  high: 'to',
  factor: 'Factor',
  limit: 'High limit',
  low_limit: 'Low limit',
};
const BY_LAYOUT = <span className="px-1 text-soft">by layout</span>;

/** Rows about the cursor have fields at once, so that keys find them. */
const NEAR = 16;
/** Whether a column holds figures, which stand to the right. */
export const isFigure = (column: Typed) => column !== 'name' && column !== 'place' && column !== 'unit';

/** What rows ask of the intake. */
export interface IntakeTools {
  change: (index: number, part: Partial<Candidate>) => void;
  /** Takes a typed name as an example for the rest. */
  learn: (column: 'name' | 'place', row: Candidate, text: string) => void;
  key: (event: KeyboardEvent, index: number, column: Typed) => void;
  paste: (event: ClipboardEvent, index: number, column: Typed) => void;
  focus: (index: number, column: Typed) => void;
  /** What is done about a clash; nothing takes that back. */
  fix: (key: string, how: Fix | undefined) => void;
  leave: (index: number) => void;
  /** The row that the cursor was last brought to. */
  aim: () => number;
}

interface Props {
  index: number;
  start: number;
  row: Candidate;
  connection: Item<'connection'>;
  types: readonly string[] | undefined;
  columns: readonly Typed[];
  groups: readonly Group[];
  tracks: string;
  problem: string;
  clash: Schemas['ClashView'] | undefined;
  fix: Fix | undefined;
  /** The column of a chosen range that reaches here. */
  marked: Typed | undefined;
  /** The same for as long as the intake lives. */
  tools: RefObject<IntakeTools>;
}

/** A row, which while the intake is scrolled by comes without fields: a hundred a second could not be made. It gets them once
 * all stands still, and looks the same before. */
export const IntakeRow = memo(function IntakeRow({ scrolling, ...props }: Props & { scrolling: boolean }) {
  const [plain, setPlain] = useState(scrolling && Math.abs(props.index - props.tools.current.aim()) > NEAR);
  if (plain && !scrolling) setPlain(false);
  return plain ? <PlainRow {...props} /> : <FullRow {...props} />;
});

const PlainRow = memo(function PlainRow({ row, connection, types, columns, groups, problem, marked, ...props }: Props) {
  const text = (said: string, className: string) => (
    <span
      className={clsx(
        'block h-7 rounded border border-firm px-2 leading-6.5 whitespace-nowrap',
        className,
        said.length > 9 && 'truncate',
      )}
    >
      {said}
    </span>
  );
  return (
    <div {...placed(props)}>
      <span className="truncate px-2">{row.source}</span>
      {types && <span className="px-0.5">{row.point.block ? BY_LAYOUT : text(row.point.type ?? types[0] ?? '', '')}</span>}
      {columns.map((column) => (
        <span key={column} className="px-0.5">
          {text(
            row[column],
            clsx(
              isFigure(column) && 'figures text-right',
              marked === column && 'bg-tint',
              faulty(problem, column) && 'border-act4',
            ),
          )}
        </span>
      ))}
      {groups.length > 0 && (
        <span className="px-0.5">{text(groups.find((g) => g.id === row.group)?.name ?? usual(connection), '')}</span>
      )}
    </div>
  );
});

const FullRow = memo(function FullRow(props: Props) {
  const { index, row, connection, types, columns, groups, problem, clash, fix, marked, tools } = props;
  return (
    <div {...placed(props)}>
      <Source connection={connection} row={row} />
      {types && (
        <span className="px-0.5">
          {row.point.block ? (
            BY_LAYOUT
          ) : (
            <Choice
              aria-label={`Type of ${row.source}`}
              value={row.point.type ?? types[0]}
              onChange={(e) => tools.current.change(index, { point: retyped(row.point, e.target.value) })}
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
            data-cell={`${index}-${column}`}
            aria-label={`${TITLES[column]} of ${row.source}`}
            aria-invalid={faulty(problem, column)}
            autoComplete="off"
            spellCheck={false}
            className={clsx(INPUT, isFigure(column) && 'figures text-right', marked === column && 'bg-tint')}
            value={row[column]}
            onFocus={(e) => {
              e.currentTarget.dataset.before = row[column];
              tools.current.focus(index, column);
            }}
            onBlur={(e) => {
              const { value, dataset } = e.currentTarget;
              if ((column === 'name' || column === 'place') && value !== dataset.before) tools.current.learn(column, row, value);
            }}
            onKeyDown={(e) => tools.current.key(e, index, column)}
            onPaste={(e) => tools.current.paste(e, index, column)}
            onChange={(e) => tools.current.change(index, { [column]: e.target.value })}
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
                onClick={() => tools.current.fix(row.key, 'instead')}
              >
                point it here
              </button>
              <button type="button" className="text-teal hover:underline" onClick={() => tools.current.fix(row.key, 'out')}>
                leave out
              </button>
            </span>
          )}
          {column === 'name' && (fix || problem === 'twice in this list') && (
            <span className="absolute top-0 right-1.5 flex h-full items-center gap-2 bg-raised pl-1 text-sm">
              {fix ? (
                <button type="button" className="text-teal hover:underline" onClick={() => tools.current.fix(row.key, undefined)}>
                  {fix === 'out' ? 'left out' : 'existing tag'}, undo
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
            onChange={(e) => tools.current.change(index, { group: e.target.value })}
          >
            <option value="">{usual(connection)}</option>
            {groups.map((g) => (
              <option key={g.id} value={g.id}>
                {g.name}
              </option>
            ))}
          </Choice>
        </span>
      )}
      <span className="px-2">
        {/* A plain one: rows come and go by the hundred while the intake is scrolled. */}
        <input
          type="checkbox"
          aria-label={`Record ${row.source}`}
          className="block size-4 accent-teal"
          checked={row.record}
          onChange={(e) => tools.current.change(index, { record: e.target.checked })}
        />
      </span>
      <button
        type="button"
        className="rounded p-1 hover:bg-band"
        aria-label={`Leave out ${row.source}`}
        onClick={() => tools.current.leave(index)}
      >
        <X className="size-3.5" />
      </button>
    </div>
  );
});

/** How often a tag of no group is read. */
const usual = (connection: Item<'connection'>) => `every ${connection.set.interval_ms / 1000} s`;

/** Where a row stands, and how its parts share its width. */
function placed({ fix, tracks, start }: Pick<Props, 'fix' | 'tracks' | 'start'>) {
  return {
    className: clsx(
      'absolute right-0 left-0 grid items-center border-t border-line will-change-transform',
      fix === 'out' && 'opacity-50',
    ),
    style: { gridTemplateColumns: tracks, height: ROW, transform: `translateY(${start}px)` },
  };
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
  if (connection.set.kind === 'modbus' && !row.point.block) return <Register connection={connection} row={row} />;
  return (
    <span className="truncate px-2" title={row.source}>
      {row.source}
    </span>
  );
}

function Register({ connection, row }: { connection: Item<'connection'>; row: Candidate }) {
  const check = usePointCheck(connection.id, row.point);
  const wrong = check.data?.wrong[0]?.[1];
  return (
    <span className={clsx('truncate px-2', wrong ? 'text-sm text-act4' : 'figures')} title={wrong ?? row.source}>
      {wrong ?? (check.data?.shown.split(',')[0] || row.source)}
    </span>
  );
}
