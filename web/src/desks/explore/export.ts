// What is seen, to take along: samples as CSV, the plot as PNG.

import { http, take } from '../../api/client';
import { resolved } from '../../parts/colours';
import type { TrendTag, TrendWindow } from '../../parts/trend';

/** Most samples of one tag in a file. */
const MOST = 100_000;

/** A cell as RFC 4180 has it; one that a spreadsheet would run as a formula begins with an apostrophe. */
export function cell(value: unknown): string {
  const text = value === null || value === undefined ? '' : String(value);
  const safe = typeof value === 'string' && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

interface Columns {
  offset: number[];
  value: unknown[];
  reason: string[];
}

/** Rows of one tag: time to the nanosecond, tag, value, engineering unit, quality. */
export function rows(title: string, unit: string, start: string, columns: Columns): string[] {
  const base = BigInt(Date.parse(start)) * 1_000_000n;
  return columns.offset.map((offset, i) => {
    const at = base + BigInt(offset);
    const whole = new Date(Number(at / 1_000_000n)).toISOString().slice(0, -5);
    const time = `${whole}.${String(at % 1_000_000_000n).padStart(9, '0')}Z`;
    return [time, title, columns.value[i], unit, columns.reason[i]].map(cell).join(',');
  });
}

export async function csvOf(tags: readonly TrendTag[], { from, to }: TrendWindow): Promise<{ text: string; cut: boolean }> {
  const body = {
    tags: tags.map((t) => t.id),
    from: new Date(from).toISOString(),
    to: new Date(to).toISOString(),
    parts: MOST,
    // The value that held at the start belongs to what is seen.
    held: true,
  };
  const answer = await take(http.POST('/api/history/raw', { body }));
  const lines = ['time,tag,value,unit,quality'];
  for (const columns of answer.tags) {
    const tag = tags.find((t) => t.id === columns.tag);
    if (tag) lines.push(...rows(tag.title, tag.set.unit, answer.start, columns));
  }
  return { text: `${lines.join('\r\n')}\r\n`, cut: answer.tags.some((t) => t.more) };
}

/** The plot on its ground, with what its lines are. */
export function pictureOf(
  plot: HTMLCanvasElement,
  legend: { name: string; colour: string }[],
  title: string,
): Promise<Blob | null> {
  const ratio = devicePixelRatio;
  const foot = 44 * ratio;
  const canvas = document.createElement('canvas');
  canvas.width = plot.width;
  canvas.height = plot.height + foot;
  const ctx = canvas.getContext('2d');
  if (!ctx) return Promise.resolve(null);
  ctx.fillStyle = resolved('var(--color-raised)');
  ctx.fillRect(0, 0, canvas.width, canvas.height);
  ctx.drawImage(plot, 0, 0);
  ctx.font = `${12 * ratio}px "Atkinson Hyperlegible Next Variable"`;
  let x = 12 * ratio;
  for (const { name, colour } of legend) {
    ctx.fillStyle = resolved(colour);
    ctx.fillRect(x, plot.height + 12 * ratio, 16 * ratio, 2 * ratio);
    ctx.fillText(name, x + 22 * ratio, plot.height + 17 * ratio);
    x += ctx.measureText(name).width + 44 * ratio;
  }
  ctx.fillStyle = resolved('var(--color-soft)');
  ctx.fillText(title, 12 * ratio, plot.height + 36 * ratio);
  return new Promise((done) => canvas.toBlob(done, 'image/png'));
}
