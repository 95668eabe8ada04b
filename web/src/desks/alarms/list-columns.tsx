// The columns of the list of standing alarms.

import type { ReactNode } from 'react';
import { STATE_WORDS, waits } from '../../api/alarm-state';
import type { Alarm } from '../../api/queries';
import { sinceWords } from '../../app/alarm-acts';
import type { HeldRow } from '../../parts/alarm-list';
import { lasting, moment, PRIORITY_WORDS } from '../../parts/text';
import { Button } from '../../parts/ui';
import { Value } from '../../parts/value';

/** The width of the first column, in rem. */
const FIRST = 3.5;

/** The alarm came as the first of its first-out group. */
function FirstOut() {
  return <span className="ml-2 rounded border border-ink px-1 text-sm whitespace-nowrap">first out</span>;
}

/** Somebody tries whether people are reached. */
function TestMark() {
  return <span className="ml-2 rounded border border-ink px-1 text-sm whitespace-nowrap">test</span>;
}

interface CellProps {
  row: HeldRow<Alarm>;
  now: number;
  onTake: (() => void) | undefined;
  onOpen: () => void;
}

export interface ListColumn {
  key: string;
  title: string;
  /** In rem. */
  width: number;
  /** It takes the room that the others leave. */
  grows?: boolean;
  right?: boolean;
  /** It is always there. */
  pinned?: boolean;
  cell: (props: CellProps) => ReactNode;
}

const soft = (text: string) => (
  <span className="line-clamp-2 font-normal text-soft" title={text}>
    {text}
  </span>
);

/** Every column there is, in their order. */
export const LIST_COLUMNS: readonly ListColumn[] = [
  {
    key: 'since',
    title: 'Since',
    width: 6.5,
    cell: ({ row: { alarm: a, gone }, now }) => (
      <>
        <span className="figures block">{moment(a.raised_at, now)}</span>
        <span className="block truncate text-sm font-normal text-soft">
          {gone ? 'normal again' : sinceWords(a, now, lasting)}
        </span>
      </>
    ),
  },
  {
    key: 'state',
    title: 'State',
    width: 8.5,
    cell: ({ row: { alarm: a, gone } }) => <span className="line-clamp-2">{gone ? 'normal' : STATE_WORDS[a.state]}</span>,
  },
  {
    key: 'priority',
    title: 'Priority',
    width: 6.5,
    cell: ({ row: { alarm: a } }) => <span>{`${a.priority} · ${PRIORITY_WORDS[a.priority]}`}</span>,
  },
  { key: 'place', title: 'Place', width: 10, cell: ({ row: { alarm: a } }) => soft(a.place_path.replaceAll('/', ' / ')) },
  {
    key: 'what',
    title: 'What',
    width: 12.5,
    grows: true,
    pinned: true,
    cell: ({ row: { alarm: a }, onOpen }) => (
      <>
        <button
          type="button"
          className="line-clamp-2 text-left hover:text-teal"
          title={a.place_path.replaceAll('/', ' / ')}
          onClick={onOpen}
        >
          <span className="font-normal text-soft">{a.place_name} · </span>
          {a.text}
          {a.first_out && <FirstOut />}
          {a.test && <TestMark />}
        </button>
        {a.action && <span className="block truncate text-sm font-normal text-soft">{a.action}</span>}
      </>
    ),
  },
  { key: 'class', title: 'Class', width: 8, cell: ({ row: { alarm: a } }) => soft(a.class_name) },
  { key: 'cause', title: 'Likely cause', width: 13, cell: ({ row: { alarm: a } }) => soft(a.cause) },
  { key: 'after', title: 'Came after', width: 11, cell: ({ row: { alarm: a } }) => soft(a.came_after) },
  {
    key: 'now',
    title: 'Now',
    width: 9,
    right: true,
    cell: ({ row: { alarm: a } }) => typeof a.no === 'number' && <Value no={a.no} set={a} own />,
  },
  {
    key: 'acknowledged',
    title: 'Acknowledged',
    width: 7.5,
    cell: ({ row: { alarm: a, gone }, onTake }) =>
      !gone && waits(a.state) ? (
        <Button className="h-6.5" disabled={!onTake} onClick={onTake}>
          Acknowledge
        </Button>
      ) : (
        <span className="block truncate font-normal text-soft">{a.acknowledged_by}</span>
      ),
  },
];
export const USUAL = ['since', 'what', 'now', 'acknowledged'];

/** The columns that an address asks for. */
export function columnsOf(asked: string | undefined): readonly ListColumn[] {
  const keys = asked ? asked.split(',') : USUAL;
  return LIST_COLUMNS.filter((column) => column.pinned || keys.includes(column.key));
}

/** The layout of a row with these columns, behind the first one, in which it is chosen. */
export function gridOf(columns: readonly ListColumn[]) {
  const tracks = columns.map(({ width, grows }) => (grows ? `minmax(${width}rem,1fr)` : `${width}rem`));
  const least = columns.reduce((sum, column) => sum + column.width + 0.5, FIRST + 1);
  return { gridTemplateColumns: [`${FIRST}rem`, ...tracks].join(' '), minWidth: `${least}rem` };
}
