// Small trends: the last quarter of an hour, or more, of several tags, asked for together. What has states is a strip of them.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../api/client';
import { feed } from '../api/live';
import { type Names, type Printing, useReading } from './reading';
import { counted } from './text';
import type { PixelColumns } from './trend-data';

/** A quarter of an hour, in ms. */
const SPAN = 900_000;
/** History answers so many tags at once. */
const MOST = 50;
const WIDTH = 64;
const HEIGHT = 18;

/** The columns of small trends by tag; over `span` milliseconds. */
export function useSparks(ids: readonly string[], span = SPAN, width = WIDTH) {
  return useQuery({
    queryKey: ['sparks', ids, span, width],
    enabled: ids.length > 0,
    refetchInterval: 10_000,
    staleTime: 0,
    queryFn: async () => {
      const to = feed.time();
      const period = { from: new Date(to - span).toISOString(), to: new Date(to).toISOString(), parts: width };
      const found = new Map<string, PixelColumns>();
      for (let first = 0; first < ids.length; first += MOST) {
        const body = { tags: ids.slice(first, first + MOST), ...period };
        const answer = await take(http.POST('/api/history/pixels', { body }));
        for (const columns of answer.tags) found.set(columns.tag, columns);
      }
      return found;
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

/** A stretch of a small trend during which one state held; pixels from `from` to `to`. */
export interface Stretch {
  from: number;
  to: number;
  state: number;
}

/** The states of a value one after the other; where nothing is known there is no stretch. */
export function stretches(columns: Pick<PixelColumns, 'offset' | 'last'>, width = WIDTH, span = SPAN): Stretch[] {
  const all: Stretch[] = [];
  let open: Stretch | undefined;
  columns.offset.forEach((offset, i) => {
    const at = (offset / 1e6 / span) * width;
    const state = columns.last[i] ?? null;
    if (open && open.state === state) return;
    if (open) open.to = at;
    open = state === null ? undefined : { from: at, to: width, state };
    if (open) all.push(open);
  });
  return all.filter((s) => s.to > s.from);
}

/** States are no heights: each is a band of its own shade, with a line where one follows another, and its name in words. */
function Strip({ columns, names, span, width }: { columns: PixelColumns; names: Names; span: number; width: number }) {
  const order = [...names.keys()].sort((a, b) => a - b);
  const shade = (state: number) => 0.15 + (0.7 * Math.max(0, order.indexOf(state))) / Math.max(1, order.length - 1);
  return stretches(columns, width, span).map(({ from, to, state }) => (
    <g key={from}>
      <title>{names.get(state) ?? state}</title>
      <rect x={from} y={3} width={to - from} height={HEIGHT - 6} fill="var(--color-teal)" fillOpacity={shade(state)} />
      {to - from > 2 && <line x1={from} x2={from} y1={3} y2={HEIGHT - 3} stroke="var(--color-ink)" strokeWidth="0.8" />}
    </g>
  ));
}

interface SparkProps {
  columns: PixelColumns | undefined;
  name: string;
  set: Printing;
  /** What the columns span, in milliseconds. */
  span?: number;
  /** In pixels. */
  width?: number;
}

export function Spark({ columns, name, set, span = SPAN, width = WIDTH }: SparkProps) {
  const { names } = useReading(set, true);
  const told = names && columns ? stretches(columns, width, span).map((s) => names.get(s.state) ?? String(s.state)) : [];
  const title = `${name}, last ${span < 3_600_000 ? counted(span / 60_000, 'minute') : counted(span / 3_600_000, 'hour')}`;
  const words = told.length > 0 ? `${title}: ${told.slice(-6).join(', ')}` : title;
  return (
    <svg width={width} height={HEIGHT} viewBox={`0 0 ${width} ${HEIGHT}`} role="img" aria-label={words} className="shrink-0">
      {columns && names && <Strip columns={columns} names={names} span={span} width={width} />}
      {columns && !names && (
        <path d={sparkPath(columns, width, HEIGHT, span)} fill="none" stroke="var(--color-teal)" strokeWidth="1.2" />
      )}
    </svg>
  );
}
