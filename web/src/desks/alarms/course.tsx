// The course of a period: how many alarms came in ten minutes, at most and on average.

import type { Schemas } from '../../api/client';
import { moment } from '../../parts/text';

const WIDTH = 520;
const HEIGHT = 132;
const LEFT = 30;
const BOTTOM = 18;
/** A flood begins above this. */
const FLOOD = 10;

export function Course({ figures }: { figures: Schemas['PerformanceView'] }) {
  const { slots, slot_s } = figures;
  const most = Math.max(FLOOD + 2, ...slots.map((slot) => slot.most));
  const plot = HEIGHT - BOTTOM;
  const y = (count: number) => plot - (count / most) * (plot - 6);
  const each = (WIDTH - LEFT) / slots.length;
  const bar = Math.max(each - (each > 3 ? 1 : 0), 0.8);
  const begin = Date.parse(figures.from);
  const at = (slot: number) => begin + slot * slot_s * 1000;
  const step = most > 40 ? Math.ceil(most / 40) * 10 : most > 20 ? 10 : 5;
  const lines = Array.from({ length: Math.floor(most / step) + 1 }, (_, i) => i * step);
  return (
    <figure>
      <figcaption className="mb-1 text-sm text-soft">
        Alarms in 10 min: at most <Key className="bg-soft" />, on average <Key className="bg-teal" />
        {slot_s > 600 && `, in spans of ${slot_s >= 3600 ? `${+(slot_s / 3600).toFixed(1)} h` : `${slot_s / 60} min`}`}
      </figcaption>
      <svg
        role="img"
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="w-full"
        aria-label={`Course of the period: at most ${Math.max(...slots.map((slot) => slot.most))} alarms in 10 min`}
      >
        {lines.map((count) => (
          <g key={count}>
            <line x1={LEFT} x2={WIDTH} y1={y(count)} y2={y(count)} stroke="var(--color-line)" />
            <text x={LEFT - 5} y={y(count) + 3.5} textAnchor="end" fontSize="10" fill="var(--color-soft)" className="figures">
              {count}
            </text>
          </g>
        ))}
        {slots.map((slot, i) => {
          const x = LEFT + i * each;
          const average = (slot.count * 600) / slot_s;
          return (
            slot.count > 0 && (
              // biome-ignore lint/suspicious/noArrayIndexKey: a span is its index
              <g key={i}>
                <title>{`${moment(at(i), 0)}: ${slot.count} came, at most ${slot.most} in 10 min`}</title>
                <rect x={x} width={bar} y={y(slot.most)} height={plot - y(slot.most)} fill="var(--color-soft)" opacity="0.55" />
                <rect x={x} width={bar} y={y(average)} height={plot - y(average)} fill="var(--color-teal)" />
              </g>
            )
          );
        })}
        <line x1={LEFT} x2={WIDTH} y1={y(FLOOD)} y2={y(FLOOD)} stroke="var(--color-act4)" strokeDasharray="5 4" />
        <text x={WIDTH - 2} y={y(FLOOD) - 3} textAnchor="end" fontSize="10" fill="var(--color-act4)">
          flood above {FLOOD}
        </text>
        <text x={LEFT} y={HEIGHT - 4} fontSize="10" fill="var(--color-soft)" className="figures">
          {moment(begin, 0)}
        </text>
        <text x={WIDTH} y={HEIGHT - 4} textAnchor="end" fontSize="10" fill="var(--color-soft)" className="figures">
          {moment(figures.to, 0)}
        </text>
      </svg>
    </figure>
  );
}

function Key({ className }: { className: string }) {
  return <span aria-hidden className={`mx-0.5 inline-block size-2 rounded-sm ${className}`} />;
}
