// What a recorder has stored, row by row.

import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import type { Item } from '../../api/model';
import { useReading } from '../../parts/reading';
import { moment, pathEnd } from '../../parts/text';
import { Button, Trouble } from '../../parts/ui';
import { takeRow } from './take-row';

const SHOWN = 20;

export function RecordedRows({ item }: { item: Item<'recorder'> }) {
  const now = useNow();
  const [limit, setLimit] = useState(SHOWN);
  const rows = useQuery({
    queryKey: ['recorder rows', item.id, limit],
    queryFn: () => take(http.GET('/api/recorders/{id}/rows', { params: { path: { id: item.id }, query: { limit } } })),
    refetchInterval: 5000,
    staleTime: 0,
  });
  const changes = item.set.when.on === 'change';
  const { columns = [], rows: all = [], left_out = 0 } = rows.data ?? {};
  return (
    <section aria-label="Recorded rows" className="flex min-h-40 flex-1 flex-col">
      <div className="flex items-center gap-2">
        <h2 className="flex-1 font-semibold">Rows that arrived</h2>
        {item.set.running && (
          <Button className="h-6" onClick={() => void takeRow(item).then(() => rows.refetch())}>
            Take row
          </Button>
        )}
      </div>
      <Trouble error={rows.error} />
      {rows.data && all.length === 0 && (
        <p className="text-soft">
          {changes ? 'Changes are no rows; each value has its own time. The trend of a tag shows them.' : 'None yet.'}
        </p>
      )}
      {all.length > 0 && (
        <div className="mt-1 min-h-0 flex-1 overflow-auto border border-line bg-raised">
          <table className="text-left whitespace-nowrap" aria-label={`Rows of ${item.set.name}`}>
            <thead className="sticky top-0 bg-band text-sm">
              <tr>
                <th className="sticky left-0 bg-band px-2 font-semibold">Instant</th>
                {columns.map((column) => (
                  <th key={`${column.tag} ${column.track}`} className="px-2 text-right font-semibold" title={column.title}>
                    {pathEnd(column.title)}
                    <span className="block font-normal text-soft">
                      {[column.track === 'value' ? '' : column.track, column.unit].filter(Boolean).join(', ') || '\u00a0'}
                    </span>
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {all.map((row) => (
                <tr key={row.at} className="h-6 border-t border-line">
                  <td className="figures sticky left-0 bg-raised px-2" title={row.actor && `taken by ${row.actor}`}>
                    {moment(row.at, now)}
                    {row.actor && <span className="text-soft"> · {row.actor}</span>}
                  </td>
                  {columns.map((column, index) => (
                    <Cell key={`${column.tag} ${column.track}`} column={column} cell={row.cells[index]} />
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {all.length === limit && limit < 200 && (
            <Button kind="quiet" className="m-1" onClick={() => setLimit(200)}>
              Show up to 200
            </Button>
          )}
        </div>
      )}
      {left_out > 0 && <p className="text-sm text-soft">{left_out} more columns are not shown here.</p>}
    </section>
  );
}

const MARKS: Record<string, string> = { uncertain: '~ ', bad: '⨯ ' };

function Cell({ column, cell }: { column: Schemas['RowColumn']; cell: Schemas['RowCell'] | null | undefined }) {
  const { unit, decimals, states } = column;
  const reading = useReading({ unit, decimals, states: states ?? null }, true);
  if (!cell) return <td className="px-2 text-right text-soft">–</td>;
  const value = cell.value as unknown;
  return (
    <td className="figures px-2 text-right" title={cell.class === 'good' ? undefined : cell.reason}>
      {MARKS[cell.class] && (
        <span role="img" aria-label={cell.reason}>
          {MARKS[cell.class]}
        </span>
      )}
      {value === null ? '' : reading.print(value as never)}
    </td>
  );
}
