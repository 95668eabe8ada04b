// The alarms that stand, of any number: filtered, ordered, chosen, and held still while somebody reads.

import { useVirtualizer } from '@tanstack/react-virtual';
import clsx from 'clsx';
import { type KeyboardEvent, useId, useMemo, useRef, useState } from 'react';
import { waits } from '../../api/alarm-state';
import { useNow } from '../../api/live';
import { type Alarm, useItems, useMay } from '../../api/queries';
import { AlarmActs, actNow, type Whose } from '../../app/alarm-acts';
import { useGo, useView } from '../../app/view';
import {
  AGES,
  type AlarmFilter,
  type HeldRow,
  held,
  inOrder,
  isFilter,
  NO_CLASS,
  ORDERS,
  passes,
  STATE_CHOICES,
} from '../../parts/alarm-list';
import { ColumnChoice } from '../../parts/column-choice';
import { Pips } from '../../parts/pips';
import { moved } from '../../parts/sheet';
import { counted, PRIORITY_WORDS } from '../../parts/text';
import { Button, Choice, Empty, Input, Tick } from '../../parts/ui';
import { Views } from '../../parts/views';
import { columnsOf, gridOf, LIST_COLUMNS, type ListColumn, USUAL } from './list-columns';
import { useReading } from './reading';

const ROW = 44;
const HEAD = 32;
const GRID = 'grid items-center gap-x-2';

interface Props {
  at: string | undefined;
  /** Those of the chosen place, newest first. */
  here: readonly Alarm[];
  all: readonly Alarm[];
}

export function Standing({ at, here, all }: Props) {
  const view = useView();
  const now = useNow();
  const operator = useMay('operator');
  const filter: AlarmFilter = {
    words: view.words ?? '',
    priorities: view.priorities ?? '',
    state: view.state ?? '',
    age: view.age ?? '',
    alarm_class: view.alarm_class ?? '',
  };
  const { words, priorities, state, age, alarm_class } = filter;
  const order = view.order ?? '';
  // What a filter by age lets through changes by the minute, not by the tick of the clock.
  const minute = age ? Math.floor(now / 60_000) : 0;
  const shown = useMemo(
    () =>
      inOrder(
        here.filter((a) => passes(a, { words, priorities, state, age, alarm_class }, minute * 60_000)),
        order,
      ),
    [here, words, priorities, state, age, alarm_class, minute, order],
  );
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const { reading, release, watch } = useReading();
  const asked = [words, priorities, state, age, alarm_class, order].join(' ');
  const [still, setStill] = useState<{ asked: string; list: readonly Alarm[] } | null>(null);
  if (reading && still?.asked !== asked) setStill({ asked, list: shown });
  if (!reading && still) setStill(null);
  const { rows, newer } = useMemo(() => held(still?.list ?? shown, shown, all), [still, shown, all]);
  const showNewer = () => {
    setStill(null);
    release();
  };

  const targets = all.filter((a) => chosen.has(a.rule));
  // Nobody acknowledges what came while the list was held still: it was not seen.
  const waiting = rows.filter((row) => !row.gone && waits(row.alarm.state)).map((row) => row.alarm);
  const whose: Whose = { rules: targets.map((a) => a.rule) };
  const done = () => setChosen(new Set());
  return (
    <>
      <Filter at={at} filter={filter} order={order} hidden={here.length - shown.length} />
      <div className="mb-2 flex min-h-8 items-center gap-3">
        {targets.length > 0 ? (
          <>
            <span className="shrink-0">{counted(targets.length, 'alarm')} chosen</span>
            <div className="min-w-0 flex-1">
              <AlarmActs
                whose={whose}
                alarms={targets}
                what={counted(targets.length, 'alarm')}
                draft="chosen alarms"
                onDone={done}
              />
            </div>
            <Button kind="quiet" onClick={done}>
              Choose none
            </Button>
          </>
        ) : (
          <>
            {operator && (
              <Button
                disabled={waiting.length === 0}
                onClick={() => void actNow('acknowledge', { rules: waiting.map((a) => a.rule) })}
              >
                Acknowledge all {waiting.length} shown
              </Button>
            )}
            {at && (
              <div className="min-w-0 flex-1">
                <AlarmActs whose={{ under: at }} alarms={[]} what="every alarm here" draft={`alarms under ${at}`} />
              </div>
            )}
          </>
        )}
        {/* Beside the list and not in it: what it says must not move the row under the pointer. */}
        <span role="status" className="ml-auto flex shrink-0 items-center gap-2">
          {newer > 0 && (
            <>
              {newer === 1 ? '1 more has come' : `${newer} more have come`} while you read.
              <Button kind="quiet" onClick={showNewer}>
                Show {newer} newer
              </Button>
            </>
          )}
        </span>
      </div>
      {here.length === 0 ? (
        <Empty title="No standing alarms">
          An alarm is listed here when a value is beyond one of its limits. Set limits on a tag: choose one on the board.
        </Empty>
      ) : rows.length === 0 ? (
        <Empty title="The filter hides every alarm">Change the filter, or show all {here.length}.</Empty>
      ) : (
        <List rows={rows} watch={watch} chosen={chosen} onChoose={setChosen} />
      )}
    </>
  );
}

interface FilterProps {
  at: string | undefined;
  filter: AlarmFilter;
  order: string;
  hidden: number;
}

function Filter({ at, filter, order, hidden }: FilterProps) {
  const go = useGo();
  const { columns = '' } = useView();
  const kept = { at: at ?? '', ...filter, order, columns };
  const classes = (useItems('alarm_class').data?.items ?? []).map((one) => one.set.name);
  const named = [...classes, ...(filter.alarm_class.trim() && !classes.includes(filter.alarm_class) ? [filter.alarm_class] : [])];
  const classChoices = {
    '': 'any class',
    ...Object.fromEntries(named.map((name) => [name, name])),
    [NO_CLASS]: 'without a class',
  };
  const only = (change: Partial<AlarmFilter>) =>
    go(Object.fromEntries(Object.entries(change).map(([key, value]) => [key, value || undefined])));
  const toggle = (priority: number) => {
    const now = filter.priorities || '4321';
    const digit = String(priority);
    const next = [...'4321'].filter((d) => (d === digit ? !now.includes(d) : now.includes(d))).join('');
    only({ priorities: next === '4321' ? '' : next });
  };
  const choice = (label: string, value: string, all: Record<string, string>, onPick: (to: string) => void) => (
    <Choice aria-label={label} className="w-auto" value={value} onChange={(e) => onPick(e.target.value)}>
      {Object.entries(all).map(([key, words]) => (
        <option key={key} value={key}>
          {words}
        </option>
      ))}
    </Choice>
  );
  return (
    <div className="mb-2 flex flex-wrap items-center gap-2">
      <Input
        aria-label="Filter alarms"
        className="w-auto min-w-32 max-w-64 flex-1"
        placeholder="Words of place or alarm…"
        value={filter.words}
        onChange={(e) => only({ words: e.target.value })}
      />
      <fieldset className="flex items-center gap-1">
        <legend className="sr-only">Priorities shown</legend>
        {[4, 3, 2, 1].map((priority) => {
          const on = !filter.priorities || filter.priorities.includes(String(priority));
          return (
            <button
              key={priority}
              type="button"
              aria-pressed={on}
              aria-label={`Priority ${priority}, ${PRIORITY_WORDS[priority]}`}
              title={`${priority}, ${PRIORITY_WORDS[priority]}`}
              className={clsx(
                'flex h-7.5 w-8 items-center justify-center rounded border hover:bg-band',
                on ? 'border-firm bg-raised' : 'border-line border-dashed opacity-60',
              )}
              onClick={() => toggle(priority)}
            >
              <Pips priority={priority} state={on ? 'unacknowledged' : 'acknowledged'} quiet />
            </button>
          );
        })}
      </fieldset>
      {choice('State', filter.state, STATE_CHOICES, (state) => only({ state }))}
      {choice('Age', filter.age, AGES, (age) => only({ age }))}
      {(classes.length > 0 || filter.alarm_class !== '') &&
        choice('Class', filter.alarm_class, classChoices, (alarm_class) => only({ alarm_class }))}
      {choice('Order', order, ORDERS, (to) => go({ order: to || undefined }))}
      <ColumnChoice
        known={LIST_COLUMNS.map(({ key, title, pinned }) => ({ key, title, pinned: pinned ?? false }))}
        chosen={columnsOf(columns).map((column) => column.key)}
        usual={USUAL}
        onChange={(next) =>
          go({
            columns: LIST_COLUMNS.filter((c) => next.includes(c.key))
              .map((c) => c.key)
              .join(','),
          })
        }
      />
      <Views
        sheet="alarms"
        kept="this place, filter, order and columns"
        view={kept}
        onTake={(next) =>
          go(
            Object.fromEntries(
              Object.entries({ ...kept, alarm_class: '', ...next }).map(([key, value]) => [key, value || undefined]),
            ),
          )
        }
      />
      {isFilter(filter) && (
        <span className="flex items-center gap-1">
          <span className="text-soft">{hidden} hidden</span>
          <Button kind="quiet" onClick={() => only({ words: '', priorities: '', state: '', age: '', alarm_class: '' })}>
            Show all
          </Button>
        </span>
      )}
    </div>
  );
}

interface ListProps {
  rows: HeldRow<Alarm>[];
  watch: ReturnType<typeof useReading>['watch'];
  chosen: ReadonlySet<string>;
  onChoose: (chosen: ReadonlySet<string>) => void;
}

function List({ rows, watch, chosen, onChoose }: ListProps) {
  const view = useView();
  const go = useGo();
  const operator = useMay('operator');
  const columns = columnsOf(view.columns);
  const grid = gridOf(columns);
  const box = useRef<HTMLDivElement>(null);
  const id = useId();
  const [active, setActive] = useState(0);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    getItemKey: (index) => rows[index]?.alarm.rule ?? index,
    overscan: 6,
    // The head takes its place in the scrolled content: rows stand lower by it than is reckoned here.
    scrollPaddingEnd: HEAD,
    useFlushSync: false,
    initialRect: { width: 900, height: 500 },
  });
  const at = Math.min(active, Math.max(0, rows.length - 1));
  const choose = (rule: string, on: boolean) => {
    const next = new Set(chosen);
    if (on) next.add(rule);
    else next.delete(rule);
    onChoose(next);
  };
  function onKey(event: KeyboardEvent) {
    if (event.target !== box.current) return;
    const row = rows[at];
    const page = Math.max(1, Math.floor((box.current?.clientHeight ?? ROW) / ROW) - 1);
    const to = moved(event.key, at, rows.length, page);
    if (to !== undefined) {
      setActive(to);
      virtual.scrollToIndex(to);
    } else if (event.key === 'Enter' && row) go({ alarm: row.alarm.rule, tag: undefined });
    else if (event.key === ' ' && row) choose(row.alarm.rule, !chosen.has(row.alarm.rule));
    else return;
    event.preventDefault();
  }
  const drawn = virtual.getVirtualItems();
  return (
    <div className="alarm-text flex min-h-0 flex-1 flex-col border border-line bg-raised">
      <div
        ref={box}
        role="grid"
        tabIndex={0}
        aria-label="Standing alarms"
        aria-rowcount={rows.length + 1}
        aria-activedescendant={rows.length > 0 ? `${id}-${at}` : undefined}
        className="group min-h-0 flex-1 overflow-auto"
        onKeyDown={onKey}
        {...watch}
      >
        <div
          role="row"
          tabIndex={-1}
          aria-rowindex={1}
          className={clsx(GRID, 'sticky top-0 z-10 h-8 bg-band px-2 text-sm font-semibold')}
          style={grid}
        >
          <span role="columnheader" tabIndex={-1}>
            <span className="sr-only">Choose</span>
          </span>
          {columns.map(({ key, title, right }) => (
            <span key={key} role="columnheader" tabIndex={-1} className={clsx('truncate', right && 'text-right')}>
              {title}
            </span>
          ))}
        </div>
        <div role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
          {drawn.map((item) => {
            const row = rows[item.index];
            if (!row) return null;
            const { alarm } = row;
            return (
              <div
                key={item.key}
                id={`${id}-${item.index}`}
                ref={virtual.measureElement}
                data-index={item.index}
                role="row"
                tabIndex={-1}
                aria-rowindex={item.index + 2}
                aria-selected={chosen.has(alarm.rule)}
                className={clsx(
                  GRID,
                  'absolute inset-x-0 min-h-11 border-b border-line px-2 hover:bg-band',
                  view.alarm === alarm.rule && 'bg-tint',
                  item.index === at &&
                    'group-focus-visible:outline-2 group-focus-visible:-outline-offset-2 group-focus-visible:outline-teal',
                  row.gone ? 'text-soft' : waits(alarm.state) && 'font-semibold',
                )}
                style={{ ...grid, transform: `translateY(${item.start}px)` }}
              >
                <Row
                  row={row}
                  columns={columns}
                  chosen={chosen.has(alarm.rule)}
                  onChoose={(on) => choose(alarm.rule, on)}
                  onTake={operator ? () => void actNow('acknowledge', { rules: [alarm.rule] }) : undefined}
                  onOpen={() => go({ alarm: alarm.rule, tag: undefined })}
                />
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

interface RowProps {
  row: HeldRow<Alarm>;
  columns: readonly ListColumn[];
  chosen: boolean;
  onChoose: (on: boolean) => void;
  onTake: (() => void) | undefined;
  onOpen: () => void;
}

function Row({ row, columns, chosen, onChoose, onTake, onOpen }: RowProps) {
  const now = useNow();
  const { alarm: a, gone } = row;
  return (
    <>
      <span role="gridcell" tabIndex={-1} className="flex items-center gap-3">
        <Tick label={`Choose ${a.text}`} hideLabel checked={chosen} disabled={gone} onChange={onChoose} />
        <Pips priority={a.priority} state={gone ? 'acknowledged' : a.state} />
      </span>
      {columns.map(({ key, right, cell }) => (
        <span
          key={key}
          role="gridcell"
          tabIndex={-1}
          className={clsx('min-w-0 py-1', right && 'overflow-hidden text-right whitespace-nowrap')}
        >
          {cell({ row, now, onTake, onOpen })}
        </span>
      ))}
    </>
  );
}
