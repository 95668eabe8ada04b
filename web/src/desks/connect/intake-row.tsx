// One row of the intake: what was found, and the new tag. It is drawn anew only when it changes.

import clsx from 'clsx';
import { X } from 'lucide-react';
import { type ClipboardEvent, type KeyboardEvent, memo, type ReactNode, type RefObject, useState } from 'react';
import type { Schemas } from '../../api/client';
import type { Group, Item } from '../../api/model';
import { ListField } from '../../parts/picker';
import { INPUT } from '../../parts/ui';
import { type Candidate, type Fault, type Fix, isWritable, type Typed } from './candidates';

export const ROW = 32;
export const TITLES: Record<Typed, string> = {
  address: 'Address',
  type: 'Type',
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
export const isFigure = (column: Typed) => !['address', 'type', 'name', 'place', 'unit'].includes(column);

/** What rows ask of the intake. */
export interface IntakeTools {
  change: (index: number, part: Partial<Candidate>) => void;
  /** Takes a typed name as an example for the rest. */
  learn: (column: 'name' | 'place', row: Candidate, text: string) => void;
  key: (event: KeyboardEvent, index: number, column: Typed) => void;
  paste: (event: ClipboardEvent, index: number, column: Typed) => void;
  focus: (index: number, column: Typed) => void;
  /** What is done about a name that is taken. */
  fix: (index: number, how: Fix | undefined) => void;
  remove: (index: number) => void;
  /** The row that the cursor was last brought to. */
  aim: () => number;
}

interface Props {
  index: number;
  start: number;
  row: Candidate;
  connection: Item<'connection'>;
  /** Whether the first column says what was found; otherwise only where a written address leads. */
  found: boolean;
  columns: readonly Typed[];
  groups: readonly Group[];
  tracks: string;
  faults: readonly Fault[];
  clash: Schemas['ClashView'] | undefined;
  /** Where it is read, in words. */
  shown: string | undefined;
  /** What a pattern would write here, and in which column. */
  ghost: string | undefined;
  ghostIn: Typed | undefined;
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

const PlainRow = memo(function PlainRow({ row, connection, found, columns, groups, faults, shown, marked, ...props }: Props) {
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
    <div {...placed({ ...props, row })}>
      <Source row={row} shown={shown} found={found} faults={faults} />
      {columns.map((column) => (
        <span key={column} className="px-0.5">
          {isWritable(row, column)
            ? text(
                row[column],
                clsx(
                  isFigure(column) && 'figures text-right',
                  marked === column && 'bg-tint',
                  faults.some((f) => f.column === column) && 'border-act4',
                ),
              )
            : byLayout(column)}
        </span>
      ))}
      {groups.length > 0 && (
        <span className="px-0.5">{text(groups.find((g) => g.id === row.group)?.name ?? usual(connection), '')}</span>
      )}
    </div>
  );
});

const FullRow = memo(function FullRow(props: Props) {
  const { index, row, connection, found, columns, groups, faults, clash, shown, ghost, ghostIn, marked, tools } = props;
  return (
    <div {...placed(props)}>
      <Source row={row} shown={shown} found={found} faults={faults} />
      {columns.map((column) => {
        if (!isWritable(row, column)) {
          return (
            <span key={column} className="px-0.5">
              {byLayout(column)}
            </span>
          );
        }
        const fault = faults.find((f) => f.column === column);
        const proposed = ghostIn === column ? ghost : undefined;
        const label = `${TITLES[column]} of ${row.source}`;
        return (
          <span key={column} className="relative px-0.5">
            <input
              data-cell={`${index}-${column}`}
              aria-label={label}
              aria-invalid={fault !== undefined}
              title={fault ? fault.words : undefined}
              autoComplete="off"
              spellCheck={false}
              list={column === 'type' ? 'types' : undefined}
              placeholder={proposed ?? (column === 'type' ? 'usual' : undefined)}
              className={clsx(
                INPUT,
                isFigure(column) && 'figures text-right',
                marked === column && 'bg-tint',
                (column === 'name' || column === 'place') && row.filled[column] && 'text-soft italic',
              )}
              value={row[column]}
              onFocus={(e) => {
                e.currentTarget.dataset.before = row[column];
                tools.current.focus(index, column);
              }}
              onBlur={(e) => {
                const { value, dataset } = e.currentTarget;
                if ((column === 'name' || column === 'place') && value !== dataset.before) {
                  dataset.before = value;
                  tools.current.learn(column, row, value);
                }
              }}
              onKeyDown={(e) => tools.current.key(e, index, column)}
              onPaste={(e) => tools.current.paste(e, index, column)}
              onChange={(e) => tools.current.change(index, { [column]: e.target.value })}
            />
            {proposed && row[column] && (
              <Over>
                <span className="text-teal">→ {proposed}</span>
              </Over>
            )}
            {column === 'name' && fault?.words === 'taken' && clash && (
              <Over>
                <b className="text-act4" title={clash.source}>
                  taken
                </b>
                <Act title={`Now read from ${clash.source || 'nowhere'}`} onClick={() => tools.current.fix(index, 'instead')}>
                  change that tag
                </Act>
                <Act onClick={() => tools.current.fix(index, 'out')}>skip</Act>
              </Over>
            )}
            {column === 'name' && row.fix && (
              <Over>
                <Act onClick={() => tools.current.fix(index, undefined)}>
                  {row.fix === 'out' ? 'skipped' : 'existing tag'}, undo
                </Act>
              </Over>
            )}
            {column === 'name' && fault?.words === 'twice in this list' && (
              <Over>
                <span className="text-act4">{fault.words}</span>
              </Over>
            )}
          </span>
        );
      })}
      {groups.length > 0 && (
        <span className="px-0.5">
          <ListField
            label={`Group of ${row.source}`}
            from={groups.map((g) => ({ id: g.id, title: g.name }))}
            none={usual(connection)}
            value={row.group}
            onChange={(group) => tools.current.change(index, { group })}
          />
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
        aria-label={`Remove row ${row.source}`}
        onClick={() => tools.current.remove(index)}
      >
        <X className="size-3.5" />
      </button>
    </div>
  );
});

/** How often a tag of no group is read. */
const usual = (connection: Item<'connection'>) => `every ${connection.set.interval_ms / 1000} s`;

/** Where a row stands, and how its parts share its width. */
function placed({ row, tracks, start }: Pick<Props, 'row' | 'tracks' | 'start'>) {
  return {
    className: clsx(
      'absolute right-0 left-0 grid items-center border-t border-line will-change-transform',
      row.fix === 'out' && 'opacity-50',
    ),
    style: { gridTemplateColumns: tracks, height: ROW, transform: `translateY(${start}px)` },
  };
}

/** Something that lies over the end of a cell. */
function Over({ children }: { children: ReactNode }) {
  return (
    <span className="absolute top-[3px] right-1.5 z-10 flex h-[1.55rem] items-center gap-2 bg-raised pl-1 text-sm">
      {children}
    </span>
  );
}

function Act({ children, title, onClick }: { children: ReactNode; title?: string; onClick: () => void }) {
  return (
    <button type="button" className="text-teal hover:underline" title={title} onClick={onClick}>
      {children}
    </button>
  );
}

/** In place of a cell that nobody writes in. */
const byLayout = (column: Typed) => column === 'type' && BY_LAYOUT;

/** What was found, or where a written address leads; what is wrong there instead. */
function Source({ row, shown, found, faults }: Pick<Props, 'row' | 'shown' | 'found' | 'faults'>) {
  const wrong = faults.find((f) => f.column === 'address' || f.column === 'type')?.words;
  const where = shown?.split(',')[0];
  const words = wrong ?? (row.written ? where : row.named ? row.source.split(' / ').slice(-2).join(' / ') : where || row.source);
  return (
    <span
      className={clsx(
        'truncate px-2',
        wrong ? 'text-sm text-act4' : shown && !row.named && 'figures',
        !wrong && !found && 'text-soft',
      )}
      title={wrong ?? (row.named && shown ? shown : row.source)}
    >
      {words}
    </span>
  );
}
