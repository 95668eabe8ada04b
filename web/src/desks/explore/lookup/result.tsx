// The rows of a lookup as a sheet, and what its columns come to.

import { useMemo, useSyncExternalStore } from 'react';
import type { Schemas } from '../../../api/client';
import { useReading } from '../../../parts/reading';
import { type Column, Sheet } from '../../../parts/sheet';
import { counted, moment, pathEnd } from '../../../parts/text';
import { MOST, type Pages, type Row } from './pages';
import type { Sums } from './sums';

/** Most columns that are drawn. */
const DRAWN = 80;

type Told = Schemas['LookupColumn'];
type Tag = Schemas['LookupTag'];

interface Props {
  pages: Pages;
  /** Tells this lookup apart from others. */
  source: readonly unknown[];
  sums: Sums;
}

export function Result({ pages, source, sums }: Props) {
  const total = useSyncExternalStore(pages.follow, pages.total);
  const { columns: told = [], tags = [], row_tags = [] } = pages.first ?? {};
  const columns = useMemo(() => told.slice(0, DRAWN).map((column, index) => columnOf(column, index, tags)), [told, tags]);
  const left = told.length - columns.length;
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <Sheet<Row>
        label="Rows of the lookup"
        className="min-h-0 flex-1"
        columns={columns}
        source={['lookup', ...source]}
        fetch={(from, count) => pages.rows(from, count)}
        rows={total}
        idOf={(row) => String(row.index)}
      />
      {pages.cutOff() && (
        <p role="status" className="text-sm text-soft">
          Only the first {MOST.toLocaleString('en')} rows are shown here. Choose a shorter period, or write a file of all.
        </p>
      )}
      {left > 0 && <p className="text-sm text-soft">{counted(left, 'more column')} not shown here; a file has them all.</p>}
      {row_tags.length === 0 && <Below columns={told} sums={sums} />}
      {row_tags.length > 0 && <BelowLong sums={sums} />}
    </div>
  );
}

function columnOf(column: Told, index: number, tags: readonly Tag[]): Column<Row> {
  const head = column.tag === null || column.tag === undefined ? column.title : headOf(column.title);
  const right = column.holds !== 'text' && column.holds !== 'time';
  const title = column.unit ? `${head}, ${column.unit}` : head;
  // Head and rows are grids of their own, so a width does not depend on what stands in it.
  const width = Math.min(15, Math.max(6, title.length * 0.5 + 1));
  const widths: Record<string, string> = {
    time: column.title === 'To' ? '9rem' : '14rem',
    text: { Tag: '15rem', Unit: '5rem' }[column.title] ?? '9rem',
  };
  return {
    key: column.title,
    title,
    width: widths[column.holds] ?? `${width}rem`,
    right,
    render: (row) => (
      <Cell
        column={column}
        tag={tags[column.tag ?? row.tag ?? -1]}
        value={row.cells[index]}
        // A span that ends on the day on which it begins says that once.
        after={column.title === 'To' ? String(row.cells[0]) : undefined}
      />
    ),
  };
}

/** The end of a path, with what stands behind it. */
function headOf(title: string): string {
  const [path = title, ...rest] = title.split(', ');
  return [pathEnd(path), ...rest].join(', ');
}

interface CellProps {
  column: Told;
  tag: Tag | undefined;
  value: unknown;
  after: string | undefined;
}

function Cell({ column, tag, value, after }: CellProps) {
  const { unit, decimals, states } = column.holds === 'value' && tag ? tag : column;
  const reading = useReading({ unit, decimals, states: states ?? null }, true);
  if (value === null || value === undefined) return <span className="text-soft">{'\u00a0'}</span>;
  if (column.holds === 'time') return <Instant at={String(value)} after={after} />;
  if (column.holds === 'text') {
    const shown = column.title === 'Tag' ? pathEnd(String(value)) : String(value);
    return <span title={String(value)}>{shown}</span>;
  }
  return <span className="figures">{reading.print(value)}</span>;
}

/** Date and time where the browser is, without the date where it is that of the instant before it, with as much of the second as there is, to the millisecond. */
function Instant({ at, after }: { at: string; after: string | undefined }) {
  const part = /\.(\d{1,3})/.exec(at)?.[1];
  return (
    <span className="figures" title={at}>
      {moment(at, after === undefined ? 0 : Date.parse(after))}
      {part && <span className="text-soft">.{part.padEnd(3, '0')}</span>}
    </span>
  );
}

/** What each column comes to. */
function Below({ columns, sums }: { columns: readonly Told[]; sums: Sums }) {
  const all = columns.map((column, index) => ({ column, of: sums.columns?.[index] })).filter(({ column }) => column.tag != null);
  return (
    <section aria-label="What the columns come to" className="mt-2">
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard */}
      <div className="max-h-36 overflow-auto border border-line bg-raised" tabIndex={0}>
        <table className="w-full text-right whitespace-nowrap">
          <thead className="sticky top-0 bg-band text-sm">
            <tr>
              <th className="px-2 text-left font-semibold">Column</th>
              {['Filled', 'Minimum', 'Average', 'Maximum', 'Sum'].map((name) => (
                <th key={name} className="px-2 font-semibold">
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {all.slice(0, DRAWN).map(({ column, of }) => (
              <tr key={column.title} className="h-6 border-t border-line">
                <td className="max-w-64 truncate px-2 text-left" title={column.title}>
                  {headOf(column.title)}
                  {column.unit && <span className="text-soft">, {column.unit}</span>}
                </td>
                <td className="figures px-2">{of ? of.filled.toLocaleString('en') : '…'}</td>
                {(['minimum', 'average', 'maximum', 'sum'] as const).map((figure) => (
                  <td key={figure} className="figures px-2">
                    {of?.[figure] == null || column.states ? '' : of[figure].toFixed(column.decimals)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** Of a table with a row for each value only how many there are. */
function BelowLong({ sums }: { sums: Sums }) {
  const numbers = sums.columns?.reduce((most, column) => Math.max(most, column.numbers), 0);
  return (
    <p className="mt-1 text-sm text-soft">
      {numbers === undefined ? '…' : `${numbers.toLocaleString('en')} of the rows hold numbers.`}
    </p>
  );
}
