// Under a trend: what each tag is at the two handles, their difference, and its statistics over what is seen.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { http, take } from '../../api/client';
import { seriesColour } from '../../parts/colours';
import { useReadings } from '../../parts/reading';
import { moment } from '../../parts/text';
import type { TrendTag, TrendWindow } from '../../parts/trend';
import { statesOf } from '../../parts/trend-strips';

interface Props {
  tags: readonly (TrendTag & { holds: string })[];
  names: readonly string[];
  window: TrendWindow;
  live: boolean;
  a?: number | undefined;
  b?: number | undefined;
  /** Values at an instant, one for each tag. */
  valuesAt: (at: number) => (number | null)[];
}

function useStatistics(tags: readonly TrendTag[], { from, to }: TrendWindow, live: boolean) {
  const ids = tags.map((t) => t.id);
  // Live, the window moves all the time: then its statistics are asked for every five seconds.
  const round = live ? 5000 : 1;
  const [start, end] = [Math.floor(from / round) * round, Math.floor(to / round) * round];
  return useQuery({
    queryKey: ['statistics', ids, start, end],
    enabled: ids.length > 0 && end > start,
    gcTime: 10_000,
    placeholderData: (old) => (old?.tags.length === ids.length ? old : undefined),
    queryFn: () => {
      const body = { tags: ids, from: new Date(start).toISOString(), to: new Date(end).toISOString(), parts: 1 };
      return take(http.POST('/api/history/spans', { body }));
    },
  });
}

/** How long something lasts, to the second or, if short, to the tenth. */
export function exactly(ms: number): string {
  const seconds = ms / 1000;
  if (seconds < 60) return `${seconds.toFixed(1)} s`;
  const whole = Math.round(seconds);
  const [h, m, s] = [Math.floor(whole / 3600), Math.floor(whole / 60) % 60, whole % 60];
  return h > 0 ? `${h} h ${m} min ${s} s` : `${m} min ${s} s`;
}

/** How much of the known time a switch was on. */
const shareOn = (average: number | null | undefined) =>
  average === null || average === undefined ? '–' : `on ${(average * 100).toFixed(1)} %`;

const HEAD = 'px-2 text-right font-semibold';
const CELL = 'figures px-2 text-right';

export function Figures({ tags, names, window, live, a, b, valuesAt }: Props) {
  const statistics = useStatistics(tags, window, live);
  const readings = useReadings(tags.map((t) => t.set));
  const [atA, atB] = [a === undefined ? null : valuesAt(a), b === undefined ? null : valuesAt(b)];
  return (
    <table className="mt-2 w-full border-t border-line text-left" aria-label="Statistics of the visible span">
      <thead className="text-sm">
        <tr className="h-6">
          <th className="font-semibold">Tag</th>
          {atA && <th className={HEAD}>at A {a !== undefined && <span className="figures font-normal">{moment(a)}</span>}</th>}
          {atB && <th className={HEAD}>at B {b !== undefined && <span className="figures font-normal">{moment(b)}</span>}</th>}
          {a !== undefined && b !== undefined && (
            <th className={HEAD}>
              B − A <span className="figures font-normal">{exactly(Math.abs(b - a))}</span>
            </th>
          )}
          <th className={HEAD}>lowest</th>
          <th className={HEAD}>average</th>
          <th className={HEAD}>highest</th>
          <th className={HEAD}>known</th>
          <th className="w-14 pl-1 font-semibold">unit</th>
        </tr>
      </thead>
      <tbody>
        {tags.map((tag, i) => {
          const row = statistics.data?.tags.find((t) => t.tag === tag.id);
          const reading = readings[i];
          if (!reading) return null;
          const states = statesOf(reading.names, tag.holds);
          const isStates = states !== undefined;
          const print = (value: number | null) => (value === null ? undefined : states?.get(value)) ?? reading.print(value);
          const byHand = row?.by_hand[0] ?? 0;
          const [va, vb] = [atA?.[i] ?? null, atB?.[i] ?? null];
          const difference = va !== null && vb !== null && !isStates ? vb - va : null;
          return (
            <tr key={tag.id} className="h-6 border-t border-line">
              <td className="truncate">
                <span aria-hidden className="mr-2 inline-block h-0.5 w-4 align-middle" style={{ background: seriesColour(i) }} />
                {names[i]}
              </td>
              {atA && <td className={CELL}>{print(va)}</td>}
              {atB && <td className={CELL}>{print(vb)}</td>}
              {a !== undefined && b !== undefined && (
                <td className={clsx(CELL, 'font-semibold')}>
                  {difference === null
                    ? '–'
                    : `${difference > 0 ? '+' : ''}${reading.difference(difference).toFixed(reading.decimals)}`}
                </td>
              )}
              {/* Of states the lowest, the average and the highest mean nothing; of a switch the share of time that it is on does. */}
              <td className={CELL}>{isStates ? '–' : reading.print(row?.minimum[0] ?? null)}</td>
              <td className={CELL}>
                {row?.average_rounded[0] && <span title="rounded: the values have more digits">≈ </span>}
                {tag.holds === 'bool'
                  ? shareOn(row?.average[0])
                  : reading.names
                    ? '–'
                    : reading.print(row?.average[0] ?? null, 1)}
              </td>
              <td className={CELL}>{isStates ? '–' : reading.print(row?.maximum[0] ?? null)}</td>
              <td className={CELL}>
                {row?.good[0] === undefined ? '–' : `${Math.floor(row.good[0] * 100)} %`}
                {byHand > 0 && <span title="share of it that was set by hand"> ✎ {Math.ceil(byHand * 100)} %</span>}
              </td>
              <td className="pl-1 text-soft">{reading.unit}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
