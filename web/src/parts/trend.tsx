// The trend: several tags over time, each on its own axis, live or past.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { type ReactNode, useEffect, useLayoutEffect, useMemo, useRef, useState } from 'react';
import uPlot, { type Options, type Series } from 'uplot';
import { http, take } from '../api/client';
import { feed, useAlarmCount, useStatus } from '../api/live';
import type { TagSet } from '../api/model';
import { resolved, seriesColour } from './colours';
import { tagIn } from './figure';
import { marksOf, type Names, numberIn, type Reading, useReadings } from './reading';
import { clock, moment } from './text';
import { useTheme } from './theme';
import { heldAt, heldOn, type Line, lineOf, type PixelColumns, put, type Table, tableOf, thinned } from './trend-data';
import {
  type AlarmSpans,
  type ClockSteps,
  drawAlarms,
  drawByHand,
  drawLimits,
  drawSteps,
  follow,
  type HandSpans,
  nameOf,
  type TrendTag,
  valuesAt,
  windowOf,
} from './trend-draw';
import { drawStrips, floorOf, lanesOf, lifted, statesOf } from './trend-strips';
import { UnitMenu } from './unit-menu';

export { nameOf, type TrendTag } from './trend-draw';

/** What a plot shows, and where in its box: times in ms, the rest in CSS pixels. */
export interface TrendWindow {
  from: number;
  to: number;
  left: number;
  width: number;
  height: number;
}

/** What a plot lends to what stands on it. */
export interface TrendHandle {
  canvas: HTMLCanvasElement;
  /** The value of each tag that holds at an instant. */
  valuesAt: (at: number) => (number | null)[];
}

const DAY = 86_400_000;
/** More points than this for each pixel are not to be told apart. */
const DENSE = 4;
/** In pixels: the axis of time below the plot, and the space above it. */
const FOOT = 26;
const HEAD = 8;

interface Props {
  tags: readonly TrendTag[];
  /** Seconds shown. */
  span: number;
  /** End of the window in ms; without it the trend follows the present. */
  end?: number | undefined;
  height: number;
  /** Small and still: no axes beyond the first, no legend. */
  plain?: boolean;
  onMove?: (span: number, end: number | undefined) => void;
  /** Also draws, dashed, what was so many seconds earlier. */
  earlier?: number | undefined;
  /** Tells what is shown, at most ten times a second. */
  onWindow?: (window: TrendWindow, handle: TrendHandle) => void;
  /** Stands on the plot. */
  children?: ReactNode;
}

function usePixels(tags: readonly TrendTag[], span: number, end: number | undefined, width: number, earlier = 0) {
  const ids = tags.map((t) => t.id);
  // What is set or released by hand shows at once.
  const hands = useStatus()?.by_hand.version;
  return useQuery({
    queryKey: ['pixels', ids, span, end, width, earlier, end === undefined ? hands : 0],
    enabled: ids.length > 0 && width > 0 && earlier >= 0,
    // Live values come by the feed; history is read anew now and then, so that a long look stays exact.
    refetchInterval: end === undefined ? 30_000 : false,
    staleTime: end === undefined ? 0 : 60_000,
    gcTime: 30_000,
    placeholderData: (old) => (old?.tags.length === ids.length && old.tags.every((t, i) => t.tag === ids[i]) ? old : undefined),
    queryFn: () => {
      const to = (end ?? feed.time()) - earlier * 1000;
      const from = to - span * 1000;
      const body = {
        tags: ids,
        from: new Date(from).toISOString(),
        to: new Date(to).toISOString(),
        parts: Math.min(5000, Math.max(10, width)),
      };
      return take(http.POST('/api/history/pixels', { body }));
    },
  });
}

/** When alarms of the tags held. */
function useAlarmSpans(tags: readonly TrendTag[], span: number, end: number | undefined, wanted: boolean) {
  const ids = [...new Set(tags.map((t) => tagIn(t.id)))];
  const events = useAlarmCount();
  return useQuery({
    queryKey: ['alarms', 'spans', ids, span, end, end === undefined ? events : 0],
    enabled: wanted && ids.length > 0,
    staleTime: 60_000,
    gcTime: 30_000,
    placeholderData: keepPreviousData,
    queryFn: () => {
      const to = end ?? feed.time();
      const body = { tags: ids, from: new Date(to - span * 1000).toISOString(), to: new Date(to).toISOString() };
      return take(http.POST('/api/alarms/spans', { body }));
    },
  });
}

function useWidth(box: React.RefObject<HTMLDivElement | null>): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    if (!box.current) return;
    const observer = new ResizeObserver(([entry]) => setWidth(Math.floor(entry?.contentRect.width ?? 0)));
    observer.observe(box.current);
    return () => observer.disconnect();
  }, [box]);
  return width;
}

/** The range a tag's axis shows: its own, or what the values and limits need. */
function axisRange(
  set: TagSet,
  low: number | null,
  high: number | null,
  limits: PixelColumns['limits'],
  plain: boolean,
): [number, number] {
  const levels = limits.map((l) => l.level);
  const known = !plain && set.range_low !== null && set.range_high !== null ? [set.range_low, set.range_high] : [];
  const all = [low, high, ...levels, ...known].filter((v): v is number => v !== null && Number.isFinite(v));
  if (all.length === 0) return [0, 1];
  const [a, b] = [Math.min(...all), Math.max(...all)];
  const air = a === b ? Math.max(Math.abs(a) * 0.05, 0.5) : (b - a) * (known.length > 0 ? 0.02 : 0.08);
  return [a - air, b + air];
}

/** Room for the marks of an axis: for the longest name where states have names. */
function axisWidth(reading: Reading, plain: boolean, many: boolean): number {
  const longest = Math.max(0, ...[...(reading.names?.values() ?? [])].map((name) => name.length));
  return Math.min(120, Math.max(plain ? 38 : many ? 44 : 52, longest * 7 + 10));
}

/** Texts of marks, with as many digits as their distance needs. */
function markTexts(reading: Reading, marks: readonly number[]): string[] {
  if (reading.names) return marks.map((v) => reading.print(v));
  const shown = marks.map(reading.number);
  const step = shown.length > 1 ? (shown[1] ?? 0) - (shown[0] ?? 0) : 1;
  let digits = 0;
  while (digits < 9 && Math.abs(step * 10 ** digits - Math.round(step * 10 ** digits)) > 1e-6) digits += 1;
  return shown.map((v) => v.toFixed(digits));
}

/** When a tag was set by hand, in ms. */
function handSpans(data: { start: string; tags: PixelColumns[] } | undefined, tag: string): HandSpans {
  const spans = data?.tags.find((p) => p.tag === tag)?.by_hand ?? [];
  const start = Date.parse(data?.start ?? '');
  return spans.map(([from, to]) => [start + (from ?? 0) / 1e6, start + (to ?? 0) / 1e6]);
}

function timeMarks(_: uPlot, splits: number[]): string[] {
  const span = (splits.at(-1) ?? 0) - (splits[0] ?? 0);
  return splits.map((s) => {
    const text = clock(s * 1000);
    return span * 1000 > DAY ? moment(s * 1000, 0).slice(5, 16) : span > 600 ? text.slice(0, 5) : text;
  });
}

export function Trend({ tags, span, end, height, plain = false, onMove, earlier, onWindow, children }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const width = useWidth(box);
  const look = useTheme();
  const pixels = usePixels(tags, span, end, width);
  const before = usePixels(tags, span, end, width, earlier ?? -1);
  const alarms = useAlarmSpans(tags, span, end, !plain);
  const tinted = useRef<AlarmSpans>([]);
  tinted.current = alarms.data ?? [];
  const tell = useRef(onWindow);
  tell.current = onWindow;
  const [cursor, setCursor] = useState<{ at: number; values: (number | null)[] } | null>(null);
  const plot = useRef<uPlot | null>(null);
  const table = useRef<Table>({ xs: [], ys: [] });
  const shown = useRef({ span, end });
  shown.current = { span, end };
  const key = useMemo(() => tags.map((t) => `${t.id}/${t.holds}/${t.set.range_low}/${t.set.range_high}`).join(), [tags]);
  const readings = useReadings(tags.map((t) => t.set));
  const states = tags.map((t, i) => statesOf(readings[i]?.names, t.holds));
  const limits = useRef<PixelColumns['limits'][]>([]);
  // A limit on a state is no height.
  limits.current = tags.map((t, i) => (states[i] ? [] : (pixels.data?.tags.find((p) => p.tag === t.id)?.limits ?? [])));
  const move = useRef(onMove);
  move.current = onMove;
  const byHand = useRef<HandSpans[]>([]);
  byHand.current = tags.map((t) => handSpans(pixels.data, t.id));
  const steps = useRef<ClockSteps>([]);
  steps.current = (pixels.data?.clock_steps ?? []).map((s) => ({ at: Date.parse(s.at), seconds: s.seconds }));

  // The plot itself lives as long as its tags and size; data and window are put in from outside.
  // biome-ignore lint/correctness/useExhaustiveDependencies: `key` stands for what of the tags the plot is made of
  useEffect(() => {
    if (!box.current || width < 40) return;
    const { lanes, taken } = lanesOf(states, { alone: plain, earlier: earlier !== undefined });
    // What the axis of time and the space above leave of the height.
    const room = height - FOOT - HEAD;
    const axes: uPlot.Axis[] = [
      {
        stroke: resolved('var(--color-soft)'),
        grid: { stroke: resolved('var(--grid)'), width: 1 },
        ticks: { show: false },
        values: timeMarks,
        size: FOOT,
        font: '11px "Atkinson Hyperlegible Next Variable"',
      },
    ];
    const scales: uPlot.Scales = {
      x: {
        time: true,
        range: () => {
          const [a, b] = windowOf(shown.current);
          return [a / 1000, b / 1000];
        },
      },
    };
    const series: Series[] = [{}];
    const past: Series[] = [];
    tags.forEach((tag, i) => {
      const scale = `y${i}`;
      const stroke = resolved(seriesColour(i));
      scales[scale] = {
        range: (_, low, high) => lifted(axisRange(tag.set, low, high, limits.current[i] ?? [], plain), taken, room),
      };
      const steps = uPlot.paths.stepped?.({ align: 1 });
      series.push({
        scale,
        stroke,
        width: plain ? 1.3 : 1.6,
        // States are drawn as strips.
        ...(states[i] ? { paths: () => null } : steps ? { paths: steps } : {}),
        points: { show: false },
        spanGaps: false,
        // The step that ends a gap would show at its edge: between the two values nothing is known.
        gaps: (_, __, ___, ____, gaps) => gaps.map(([from, to]): [number, number] => [from, to + 2 * devicePixelRatio]),
      });
      if (earlier !== undefined) past.push({ ...series.at(-1), width: 1, dash: [4, 4], alpha: 0.65 });
      if ((i === 0 || !plain) && !states[i]) {
        const reading = readings[i];
        if (!reading) return;
        axes.push({
          scale,
          side: i % 2 === 0 ? 3 : 1,
          stroke,
          size: axisWidth(reading, plain, tags.length > 4),
          splits: (u, _, low, high) => {
            const floor = floorOf(low, high, taken, room);
            return marksOf(reading, floor, high, (u.over.clientHeight - taken) / 34);
          },
          values: (_, marks) => markTexts(reading, marks),
          grid: { show: i === states.indexOf(undefined), stroke: resolved('var(--grid)'), width: 1 },
          ticks: { show: false },
          font: '11px "Atkinson Hyperlegible Mono Variable"',
        });
      }
    });
    const options: Options = {
      width,
      height,
      series: [...series, ...past],
      axes,
      scales,
      legend: { show: false },
      cursor: { drag: { x: false, y: false }, y: false, points: { size: 6 } },
      padding: [HEAD, plain ? 4 : 8, 0, 0],
      hooks: {
        drawClear: [(u) => drawAlarms(u, tinted.current)],
        drawAxes: [(u) => drawByHand(u, byHand.current, tags.length > 1, taken), (u) => drawSteps(u, steps.current)],
        draw: [
          // Over the lines, or their words could not be read.
          (u) => drawLimits(u, limits.current, tags, readings, plain),
          (u) => drawStrips(u, lanes, states),
          (u) => {
            if (!tell.current || u.data[0].length === 0) return;
            const [from, to] = windowOf(shown.current);
            const { left, width: wide } = u.over.getBoundingClientRect();
            const box = {
              from,
              to,
              left: left - u.root.getBoundingClientRect().left,
              width: wide,
              height: u.over.clientHeight + 8,
            };
            tell.current(box, { canvas: u.ctx.canvas, valuesAt: (at) => valuesAt(u, at, tags.length) });
          },
        ],
        setCursor: [
          (u) => {
            const { idx, left } = u.cursor;
            if (plain || idx === null || idx === undefined || (left ?? -1) < 0) return setCursor(null);
            const at = u.posToVal(left ?? 0, 'x');
            // The nearest sample may lie ahead; what holds at the cursor is the one before.
            const index = (u.data[0][idx] ?? 0) > at ? idx - 1 : idx;
            setCursor({ at: at * 1000, values: tags.map((_, i) => heldAt(u.data[i + 1], index)) });
          },
        ],
      },
    };
    // A column for every series, or the first drawing fails and none follows.
    const nothing = options.series.slice(1).map(() => [null]);
    const made = new uPlot(options, [[Date.now() / 1000], ...nothing], box.current);
    plot.current = made;
    const stop = plain ? undefined : follow(made, shown, (s, e) => move.current?.(s, e));
    return () => {
      stop?.();
      made.destroy();
      plot.current = null;
    };
  }, [key, readings, width, height, plain, look, earlier === undefined]);

  // History into lines.
  useEffect(() => {
    if (!pixels.data) return;
    const start = Date.parse(pixels.data.start);
    const step = (Date.parse(pixels.data.end) - start) / Math.max(width, 1);
    const of = (data: typeof pixels.data, from: number) =>
      tags.map((tag) => {
        const columns = data.tags.find((p) => p.tag === tag.id);
        const line: Line = columns ? lineOf(columns, from, step) : { xs: [], ys: [] };
        return line.xs.length > DENSE * width ? thinned(line, step / 1000) : line;
      });
    const past = earlier !== undefined && before.data ? of(before.data, Date.parse(before.data.start) + earlier * 1000) : [];
    table.current = tableOf([...of(pixels.data, start), ...past]);
    draw(plot.current, table.current, shown.current);
  }, [pixels.data, before.data, earlier, tags, width]);

  // The window moved: draw what is there until history answers.
  // biome-ignore lint/correctness/useExhaustiveDependencies: redraw whenever the window changes
  useEffect(() => draw(plot.current, table.current, shown.current), [span, end, alarms.data]);

  // Live values at the end, drawn ten times a second at most.
  useEffect(() => {
    if (end !== undefined) return;
    // Figures of spans have no live values.
    const unwatch = tags.filter((t) => t.no > 0).map((t) => feed.watch(t.no));
    const stop = feed.listen((values) => {
      for (const value of values) {
        const i = tags.findIndex((t) => t.no === value.no);
        if (i < 0 || !value.told) continue;
        const number = typeof value.value === 'boolean' ? Number(value.value) : numberIn(value.value);
        const good = value.quality !== 'bad' && number !== undefined;
        put(table.current, i, Date.parse(good ? value.time : value.told), good ? number : null);
      }
    });
    const beat = setInterval(() => draw(plot.current, table.current, shown.current), plain ? 500 : 100);
    return () => {
      for (const off of unwatch) off();
      stop();
      clearInterval(beat);
    };
  }, [tags, end, plain]);

  const nothing = pixels.data?.tags.every((t) => t.offset.length === 0);
  return (
    <div>
      <div ref={box} className="trend relative" style={{ height }} data-testid="trend">
        {children}
        {nothing && <p className="absolute inset-x-0 top-1/3 z-10 text-center text-soft">Nothing was recorded in this time.</p>}
        {pixels.error && <p className="absolute inset-x-0 top-1/3 z-10 text-center text-act4">{pixels.error.message}</p>}
      </div>
      {!plain && <Legend tags={tags} readings={readings} states={states} cursor={cursor} />}
    </div>
  );
}

function draw(plot: uPlot | null, table: Table, shown: { span: number; end: number | undefined }) {
  if (!plot) return;
  const [, to] = windowOf(shown);
  const [xs, ...ys] = heldOn(table, Math.min(to, feed.time()));
  // A plot made anew for other tags may be ahead of their lines.
  const all = plot.series.slice(1).map((_, i) => ys[i] ?? new Array<null>(xs.length).fill(null));
  plot.setData([xs, ...all], true);
}

interface LegendProps {
  tags: readonly TrendTag[];
  readings: readonly Reading[];
  states: readonly (Names | undefined)[];
  cursor: { at: number; values: (number | null)[] } | null;
}

function Legend({ tags, readings, states, cursor }: LegendProps) {
  const print = (i: number) => {
    const value = cursor?.values[i];
    return (typeof value === 'number' ? states[i]?.get(value) : undefined) ?? readings[i]?.print(value);
  };
  return (
    <div className="mt-1 flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line pt-1.5" data-testid="cursor">
      <span className="figures w-18 text-soft">{cursor ? clock(cursor.at) : 'cursor'}</span>
      {tags.map((tag, i) => (
        <span key={tag.id} className="flex items-baseline gap-1.5">
          <span aria-hidden className="inline-block h-0.5 w-4 self-center" style={{ background: seriesColour(i) }} />
          <span>{nameOf(tag, tags)}</span>
          {/* Room for a figure, so that nothing jumps while the cursor moves. */}
          <span className="figures min-w-[4ch] font-semibold">{cursor ? print(i) : '–'}</span>
          <UnitMenu set={tag.set} className="text-sm" />
        </span>
      ))}
    </div>
  );
}
