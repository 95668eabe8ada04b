// Pictures of a trial and of a backtest: made-up values with the alarm behind them, and when an alarm would have stood.

import type { Schemas } from '../../api/client';
import { hueOf } from '../../parts/colours';

const WIDTH = 720;
const HEIGHT = 130;
const LEFT = 48;
const BOTTOM = 18;

interface Props {
  trial: Schemas['TrialView'];
  /** The level, where it stands fast. */
  level: number | undefined;
  priority: number;
}

export function TrialChart({ trial, level, priority }: Props) {
  const { seconds, every_s, columns, spans } = trial;
  const numbers = columns.flatMap((column) => column.values).filter((v): v is number => v !== null);
  if (level !== undefined) numbers.push(level);
  const low = Math.min(...numbers);
  const high = Math.max(...numbers);
  const margin = (high - low || 1) * 0.08;
  const [bottom, top] = [low - margin, high + margin];
  const x = (s: number) => LEFT + (s / seconds) * (WIDTH - LEFT - 4);
  const y = (v: number) => 4 + ((top - v) / (top - bottom)) * (HEIGHT - BOTTOM - 4);
  const words =
    spans.length === 0
      ? 'no alarm'
      : `alarm ${spans.map(([from, to]) => `from ${from} s ${to === null ? 'on' : `to ${to} s`}`).join(', ')}`;
  const ticks = [0, 0.25, 0.5, 0.75, 1].map((part) => part * seconds);
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="w-full" role="img" aria-label={`Trial over ${seconds} s: ${words}`}>
      {spans.map(([from, to]) => (
        <g key={from}>
          <rect
            x={x(from)}
            width={Math.max(1.5, x(to ?? seconds) - x(from))}
            y="4"
            height={HEIGHT - BOTTOM - 4}
            fill={hueOf(priority)}
            opacity="0.16"
          />
          <rect x={x(from)} width="1.5" y="4" height={HEIGHT - BOTTOM - 4} fill={hueOf(priority)} />
        </g>
      ))}
      <line x1={LEFT} x2={WIDTH - 4} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM} stroke="var(--color-firm)" />
      {ticks.map((s) => (
        <text
          key={s}
          x={x(s)}
          y={HEIGHT - 4}
          textAnchor={s === seconds ? 'end' : 'middle'}
          className="figures fill-soft"
          fontSize="11"
        >
          {Number(s.toFixed(1))} s
        </text>
      ))}
      {[low, high].map((v, i) => (
        <text
          key={i === 0 ? 'low' : 'high'}
          x={LEFT - 6}
          y={y(v) + 4}
          textAnchor="end"
          className="figures fill-soft"
          fontSize="11"
        >
          {Number(v.toPrecision(5))}
        </text>
      ))}
      {level !== undefined && (
        <line x1={LEFT} x2={WIDTH - 4} y1={y(level)} y2={y(level)} stroke={hueOf(priority)} strokeDasharray="5 4" />
      )}
      {columns.map((column, index) =>
        pieces(column.values).map((piece) => (
          <polyline
            key={`${column.tag} ${piece[0]?.[0]}`}
            points={piece.map(([i, v]) => `${x(i * every_s).toFixed(1)},${y(v).toFixed(1)}`).join(' ')}
            fill="none"
            stroke={index === 0 ? 'var(--color-ink)' : 'var(--color-teal)'}
            strokeWidth={index === 0 ? 1.5 : 1}
          />
        )),
      )}
    </svg>
  );
}

/** A line in pieces, broken where there is no value. */
function pieces(values: readonly (number | null)[]): [number, number][][] {
  const all: [number, number][][] = [];
  let open: [number, number][] | undefined;
  for (const [index, value] of values.entries()) {
    if (value === null) {
      open = undefined;
    } else {
      if (!open) {
        open = [];
        all.push(open);
      }
      open.push([index, value]);
    }
  }
  return all;
}

interface StripProps {
  name: string;
  /** From when to when, in milliseconds; null: until the end. */
  spans: readonly (readonly [number, number | null])[];
  period: [number, number];
}

/** When an alarm would have stood, as a strip over a period. */
export function SpanStrip({ name, spans, period: [from, to] }: StripProps) {
  const share = (ms: number) => ((ms - from) / (to - from)) * 100;
  return (
    <div className="flex items-center gap-2">
      <span className="w-20 shrink-0 text-sm text-soft">{name}</span>
      <svg
        viewBox="0 0 100 10"
        preserveAspectRatio="none"
        className="h-3 w-full bg-band"
        role="img"
        aria-label={`${name}: ${spans.length} alarms`}
      >
        {spans.map(([begin, end]) => (
          <rect
            key={begin}
            x={share(begin)}
            width={Math.max(0.12, share(end ?? to) - share(begin))}
            y="0"
            height="10"
            fill="var(--color-act3)"
          />
        ))}
      </svg>
    </div>
  );
}
