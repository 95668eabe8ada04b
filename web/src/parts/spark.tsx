// Small trends: the last quarter of an hour of several tags, asked for together.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../api/client';
import { feed } from '../api/live';
import type { PixelColumns } from './trend-data';

const SPAN = 900_000;
const WIDTH = 64;
const HEIGHT = 18;

export function useSparks(ids: readonly string[]) {
  return useQuery({
    queryKey: ['sparks', ids],
    enabled: ids.length > 0,
    refetchInterval: 10_000,
    staleTime: 0,
    queryFn: async () => {
      const to = feed.time();
      const body = {
        tags: ids.slice(0, 50),
        from: new Date(to - SPAN).toISOString(),
        to: new Date(to).toISOString(),
        parts: WIDTH,
      };
      const answer = await take(http.POST('/api/history/pixels', { body }));
      return new Map(answer.tags.map((t) => [t.tag, t]));
    },
  });
}

/** The path of a small trend: steps, with gaps left out. */
export function sparkPath(
  columns: Pick<PixelColumns, 'offset' | 'minimum' | 'maximum' | 'last'>,
  width = WIDTH,
  height = HEIGHT,
  span = SPAN,
): string {
  const all = [...columns.minimum, ...columns.maximum].filter((v): v is number => v !== null);
  if (all.length === 0) return '';
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const x = (offset: number) => ((offset / 1e6 / span) * width).toFixed(1);
  const y = (v: number) => (high === low ? height / 2 : 1.5 + (1 - (v - low) / (high - low)) * (height - 3)).toFixed(1);
  let path = '';
  let down = false;
  columns.offset.forEach((offset, i) => {
    const last = columns.last[i] ?? null;
    if (last === null) {
      if (down) path += `H${x(offset)}`;
      down = false;
      return;
    }
    path += down ? `H${x(offset)}V${y(last)}` : `M${x(offset)} ${y(last)}`;
    down = true;
  });
  return down ? `${path}H${width}` : path;
}

export function Spark({ columns, name }: { columns: PixelColumns | undefined; name: string }) {
  return (
    <svg
      width={WIDTH}
      height={HEIGHT}
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      role="img"
      aria-label={`${name}, last 15 minutes`}
      className="shrink-0"
    >
      {columns && <path d={sparkPath(columns)} fill="none" stroke="var(--color-teal)" strokeWidth="1.2" />}
    </svg>
  );
}
