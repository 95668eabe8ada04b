// What is drawn onto a plot beside its lines, and how a plot is moved by hand.

import type uPlot from 'uplot';
import { feed } from '../api/live';
import type { TagSet } from '../api/model';
import { hueOf, resolved, seriesColour } from './colours';
import type { Reading } from './reading';
import { RULE_WORDS, stepWords } from './text';
import { heldAt, type PixelColumns, zoomed } from './trend-data';

export interface TrendTag {
  id: string;
  no: number;
  title: string;
  set: TagSet;
  /** Its type at the source, where that is known. */
  holds?: string;
}

/** A tag's name; with its place's where another has the same. */
export function nameOf(tag: TrendTag, among: readonly TrendTag[]): string {
  const alone = among.filter((t) => t.set.name === tag.set.name).length < 2;
  return alone ? tag.set.name : tag.title.split('/').slice(-2).join(' ');
}

/** From and to, in ms, of what is shown. */
export function windowOf({ span, end }: { span: number; end: number | undefined }): [number, number] {
  const to = end ?? feed.time();
  return [to - span * 1000, to];
}

export type AlarmSpans = readonly { priority: number; from: string; to: string }[];

/** Begins to draw within the plot; whoever draws restores the context afterwards. */
function clipped(u: uPlot) {
  const { ctx, bbox } = u;
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  return { ctx, bbox, ratio: devicePixelRatio };
}

/** Spans in alarm as tinted columns behind the plot, with the bars of their priority at the top. */
export function drawAlarms(u: uPlot, spans: AlarmSpans) {
  const { ctx, bbox, ratio } = clipped(u);
  // The gravest last, on top of the others.
  for (const span of [...spans].sort((a, b) => a.priority - b.priority)) {
    const from = u.valToPos(Date.parse(span.from) / 1000, 'x', true);
    const to = span.to ? u.valToPos(Date.parse(span.to) / 1000, 'x', true) : bbox.left + bbox.width;
    const wide = Math.max(to - from, 2 * ratio);
    ctx.fillStyle = resolved(hueOf(span.priority));
    ctx.globalAlpha = 0.1;
    ctx.fillRect(from, bbox.top, wide, bbox.height);
    ctx.globalAlpha = 1;
    if (to < bbox.left || from > bbox.left + bbox.width) continue;
    const x = Math.max(from, bbox.left);
    for (let bar = 0; bar < 4; bar += 1) {
      ctx.globalAlpha = bar >= 4 - span.priority ? 1 : 0.2;
      ctx.fillRect(x, bbox.top + (1 + bar * 3) * ratio, Math.min(10 * ratio, Math.max(wide, 4 * ratio)), 2 * ratio);
    }
  }
  ctx.restore();
}

/** The value of each tag that holds at an instant (ms). */
export function valuesAt(u: uPlot, at: number, count: number): (number | null)[] {
  const xs = u.data[0];
  let [low, high] = [0, xs.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((xs[middle] ?? 0) <= at / 1000) low = middle + 1;
    else high = middle;
  }
  return Array.from({ length: count }, (_, i) => heldAt(u.data[i + 1], low - 1));
}

/** From and to, in ms, of what was set by hand. */
export type HandSpans = readonly (readonly [number, number])[];

const HAND_WORDS = '✎ set by hand';

/** Where values were set by hand: a hatched strip for each tag, with its mark, so many pixels above the foot of the plot. */
export function drawByHand(u: uPlot, all: readonly HandSpans[], several: boolean, above: number) {
  const { ctx, bbox, ratio } = clipped(u);
  ctx.textAlign = 'left';
  ctx.textBaseline = 'bottom';
  ctx.font = `${11 * ratio}px "Atkinson Hyperlegible Next Variable"`;
  ctx.lineWidth = ratio;
  all.forEach((spans, i) => {
    const high = 6 * ratio;
    const foot = bbox.top + bbox.height - above * ratio - i * (high + 2 * ratio);
    ctx.strokeStyle = ctx.fillStyle = resolved(several ? seriesColour(i) : 'var(--color-ink)');
    for (const [from, to] of spans) {
      const left = Math.max(bbox.left, u.valToPos(from / 1000, 'x', true));
      const right = Math.max(left + 3 * ratio, Math.min(bbox.left + bbox.width, u.valToPos(to / 1000, 'x', true)));
      if (left > bbox.left + bbox.width || right < bbox.left) continue;
      ctx.strokeRect(left, foot - high, right - left, high);
      ctx.beginPath();
      for (let x = left; x < right; x += 5 * ratio) {
        ctx.moveTo(x, foot);
        ctx.lineTo(Math.min(x + high, right), foot - Math.min(high, right - x));
      }
      ctx.stroke();
      const edge = bbox.left + bbox.width - ctx.measureText(HAND_WORDS).width - 2 * ratio;
      ctx.fillText(HAND_WORDS, Math.min(left, edge), foot - high - 2 * ratio);
    }
  });
  ctx.restore();
}

/** When the clock was set, in ms, and by how many seconds. */
export type ClockSteps = readonly { at: number; seconds: number }[];

/** Where the clock was set: a dotted line from top to foot with its words. */
export function drawSteps(u: uPlot, steps: ClockSteps) {
  const { ctx, bbox, ratio } = clipped(u);
  ctx.strokeStyle = ctx.fillStyle = resolved('var(--color-ink)');
  ctx.lineWidth = ratio;
  ctx.setLineDash([2 * ratio, 3 * ratio]);
  ctx.font = `${11 * ratio}px "Atkinson Hyperlegible Next Variable"`;
  ctx.textBaseline = 'top';
  for (const step of steps) {
    const x = Math.round(u.valToPos(step.at / 1000, 'x', true));
    if (x < bbox.left || x > bbox.left + bbox.width) continue;
    ctx.beginPath();
    ctx.moveTo(x, bbox.top);
    ctx.lineTo(x, bbox.top + bbox.height);
    ctx.stroke();
    const words = stepWords(step.seconds);
    const wide = ctx.measureText(words).width + 4 * ratio;
    ctx.fillText(words, x + wide > bbox.left + bbox.width ? x - wide : x + 4 * ratio, bbox.top + 16 * ratio);
  }
  ctx.restore();
}

export function drawLimits(
  u: uPlot,
  limits: readonly PixelColumns['limits'][],
  tags: readonly TrendTag[],
  readings: readonly Reading[],
  plain: boolean,
) {
  const { ctx, bbox } = u;
  const ratio = devicePixelRatio;
  ctx.save();
  ctx.setLineDash([3 * ratio, 3 * ratio]);
  ctx.lineWidth = ratio;
  // The axes were drawn just before and leave their own settings behind.
  ctx.textAlign = 'left';
  ctx.textBaseline = 'alphabetic';
  ctx.font = `${11 * ratio}px "Atkinson Hyperlegible Next Variable"`;
  const ground = resolved('var(--color-raised)');
  const placed: { x: number; y: number; wide: number }[] = [];
  limits.forEach((list, i) => {
    for (const limit of list) {
      const y = u.valToPos(limit.level, `y${i}`, true);
      if (!(y >= bbox.top && y <= bbox.top + bbox.height)) continue;
      ctx.strokeStyle = ctx.fillStyle = resolved(`var(--color-act${limit.priority})`);
      ctx.beginPath();
      ctx.moveTo(bbox.left, y);
      ctx.lineTo(bbox.left + bbox.width, y);
      ctx.stroke();
      const words = RULE_WORDS[limit.kind as keyof typeof RULE_WORDS] ?? limit.kind;
      const tag = tags[i];
      const name = tag && tags.length > 1 ? `${nameOf(tag, tags)} ` : '';
      const text = `${plain ? '' : name}${words} ${readings[i]?.print(limit.level) ?? limit.level}`;
      const wide = ctx.measureText(text).width + 6 * ratio;
      // On its own line, on a ground of its own, and beside labels that are there already.
      let x = bbox.left + 4 * ratio;
      const covers = (other: { x: number; y: number; wide: number }) =>
        Math.abs(other.y - y) < 14 * ratio && x < other.x + other.wide && other.x < x + wide;
      for (let other = placed.find(covers); other; other = placed.find(covers)) x = other.x + other.wide + 4 * ratio;
      placed.push({ x, y, wide });
      ctx.save();
      ctx.fillStyle = ground;
      ctx.fillRect(x - 3 * ratio, y - 6 * ratio, wide, 12 * ratio);
      ctx.restore();
      ctx.fillText(text, x, y + 4 * ratio);
    }
  });
  ctx.restore();
}

/** Wheel zooms about the cursor, dragging pans, a double click returns to the present. Gives the way to stop it. */
export function follow(
  plot: uPlot,
  shown: { current: { span: number; end: number | undefined } },
  move: (span: number, end: number | undefined) => void,
) {
  const over = plot.over;
  let held: { x: number; from: number; to: number } | null = null;
  const place = (from: number, to: number, live: boolean) => {
    const end = live || to >= feed.time() ? undefined : Math.round(to);
    move(Math.round((to - from) / 100) / 10, end);
  };
  const wheel = (event: WheelEvent) => {
    event.preventDefault();
    const live = shown.current.end === undefined;
    const share = live ? 1 : Math.min(1, Math.max(0, event.offsetX / over.clientWidth));
    const [from, to] = windowOf(shown.current);
    place(...zoomed(from, to, share, event.deltaY > 0 ? 1.25 : 0.8), live);
  };
  const down = (event: PointerEvent) => {
    if (event.button !== 0) return;
    const [from, to] = windowOf(shown.current);
    held = { x: event.clientX, from, to };
    over.setPointerCapture(event.pointerId);
  };
  const drag = (event: PointerEvent) => {
    if (!held || Math.abs(event.clientX - held.x) < 3) return;
    const shift = ((held.x - event.clientX) / over.clientWidth) * (held.to - held.from);
    place(held.from + shift, held.to + shift, false);
  };
  const up = () => {
    held = null;
  };
  const double = () => move(shown.current.span, undefined);
  over.addEventListener('wheel', wheel, { passive: false });
  over.addEventListener('pointerdown', down);
  over.addEventListener('pointermove', drag);
  over.addEventListener('pointerup', up);
  over.addEventListener('dblclick', double);
  return () => {
    over.removeEventListener('wheel', wheel);
    over.removeEventListener('pointerdown', down);
    over.removeEventListener('pointermove', drag);
    over.removeEventListener('pointerup', up);
    over.removeEventListener('dblclick', double);
  };
}
