// State strips on a plot: a value that has states is no line but a band, which says the name of each state while it held.

import type uPlot from 'uplot';
import { resolved, seriesColour } from './colours';
import type { Names } from './reading';

/** A switch without names of its own. */
const OFF_ON: Names = new Map([
  [0, 'off'],
  [1, 'on'],
]);

/** In CSS pixels: a strip, the space below it, and the strip of an earlier time beneath it. */
const HIGH = 22;
const GAP = 6;
const PAST = 6;
/** The only thing on a small plot has more room. */
const ALONE = 40;

/** The names of the states of a tag; nothing where its value is a quantity. */
export function statesOf(names: Names | undefined, holds: string | undefined): Names | undefined {
  return names ?? (holds === 'bool' || holds === 'switch' ? OFF_ON : undefined);
}

/** Where a strip stands: pixels from the foot of the plot to its own foot, and its height. */
export interface Lane {
  foot: number;
  high: number;
  past: number;
}

/** Where the strips stand, the first one uppermost, and how much of the foot of the plot they take. */
export function lanesOf(
  states: readonly (Names | undefined)[],
  { alone, earlier }: { alone: boolean; earlier: boolean },
): { lanes: (Lane | undefined)[]; taken: number } {
  const past = earlier ? PAST : 0;
  const high = alone && states.length === 1 ? ALONE : HIGH;
  let taken = 0;
  const lanes = states.toReversed().map((names): Lane | undefined => {
    if (!names) return undefined;
    const foot = taken + past;
    taken += high + past + GAP;
    return { foot, high, past };
  });
  return { lanes: lanes.toReversed(), taken };
}

/** A range that keeps so much of the foot of a plot free for the strips. */
export function lifted([low, high]: [number, number], taken: number, plot: number): [number, number] {
  const room = plot - taken;
  return room < 20 || taken === 0 ? [low, high] : [low - ((high - low) * taken) / room, high];
}

/** The least value above the strips. */
export const floorOf = (low: number, high: number, taken: number, plot: number) =>
  plot - taken < 20 ? low : low + ((high - low) * taken) / plot;

/** A state and from when to when it held; times as the plot has them. */
export interface Held {
  from: number;
  to: number;
  state: number;
}

/** The states of a column of aligned data: each holds until the next value; where nothing is known there is none. */
export function heldIn(xs: ArrayLike<number>, ys: ArrayLike<number | null | undefined>): Held[] {
  const all: Held[] = [];
  let open: Held | undefined;
  for (let i = 0; i < xs.length; i += 1) {
    const state = ys[i];
    const at = xs[i] ?? 0;
    if (open) open.to = at;
    if (state === undefined || state === open?.state) continue;
    open = state === null ? undefined : { from: at, to: at, state };
    if (open) all.push(open);
  }
  return all.filter((held) => held.to > held.from);
}

/** Draws the strips; the columns behind the tags' own are those of an earlier time. */
export function drawStrips(u: uPlot, lanes: readonly (Lane | undefined)[], states: readonly (Names | undefined)[]) {
  const { ctx, bbox } = u;
  const ratio = devicePixelRatio;
  const foot = bbox.top + bbox.height;
  const [left, right] = [bbox.left, bbox.left + bbox.width];
  ctx.save();
  ctx.beginPath();
  ctx.rect(bbox.left, bbox.top, bbox.width, bbox.height);
  ctx.clip();
  ctx.textAlign = 'left';
  ctx.textBaseline = 'middle';
  ctx.font = `${11 * ratio}px "Atkinson Hyperlegible Next Variable"`;
  const ink = resolved('var(--color-ink)');
  lanes.forEach((lane, i) => {
    const names = states[i];
    if (!lane || !names) return;
    const order = [...names.keys()].sort((a, b) => a - b);
    const shade = (state: number) => 0.12 + (0.33 * Math.max(0, order.indexOf(state))) / Math.max(1, order.length - 1);
    const band = (column: number, top: number, high: number, named: boolean) => {
      for (const { from, to, state } of heldIn(u.data[0], u.data[column] ?? [])) {
        const a = Math.max(left, u.valToPos(from, 'x', true));
        const b = Math.min(right, u.valToPos(to, 'x', true));
        if (b <= a) continue;
        ctx.globalAlpha = shade(state);
        ctx.fillStyle = resolved(seriesColour(i));
        ctx.fillRect(a, top, b - a, high);
        ctx.globalAlpha = 1;
        ctx.fillStyle = ink;
        // The edge where the state began; none where the plot begins.
        if (a > left) ctx.fillRect(a, top, ratio, high);
        const words = names.get(state) ?? String(state);
        if (named && ctx.measureText(words).width + 8 * ratio < b - a) ctx.fillText(words, a + 4 * ratio, top + high / 2);
      }
    };
    const top = foot - (lane.foot + lane.high) * ratio;
    band(i + 1, top, lane.high * ratio, true);
    if (lane.past > 0) band(i + 1 + lanes.length, top + lane.high * ratio + ratio, (lane.past - 1) * ratio, false);
  });
  ctx.restore();
}
