// How a formula went over the last hour: a small picture with its scales.

import type { Schemas } from '../../api/client';
import type { Reading } from '../reading';
import { sparkPath } from '../spark';
import { clock } from '../text';

const WIDTH = 420;
const HEIGHT = 88;

export function Hour({ hour, reading }: { hour: Schemas['HourView']; reading: Reading }) {
  const all = [...hour.minimum, ...hour.maximum].filter((v): v is number => typeof v === 'number');
  if (all.length === 0)
    return <p className="text-sm text-soft">No value in the last hour: its inputs are not recorded, or were bad.</p>;
  const [low, high] = [Math.min(...all), Math.max(...all)];
  // Small changes need more digits than the tag shows.
  const more = low !== high && reading.print(low) === reading.print(high) ? 2 : 0;
  const columns = {
    offset: hour.offset,
    minimum: hour.minimum.map((v) => v ?? null),
    maximum: hour.maximum.map((v) => v ?? null),
    last: hour.last.map((v) => v ?? null),
  };
  return (
    <figure className="grid grid-cols-[auto_1fr] gap-x-2" aria-label="The last hour">
      <div className="figures flex flex-col justify-between text-right text-sm text-soft">
        <span>{reading.print(high, more)}</span>
        {low !== high && <span>{reading.print(low, more)}</span>}
      </div>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        preserveAspectRatio="none"
        className="h-22 w-full border border-line bg-paper"
        aria-hidden
      >
        <path
          d={sparkPath(columns, WIDTH, HEIGHT, 3_600_000)}
          fill="none"
          stroke="var(--color-teal)"
          strokeWidth="1.4"
          vectorEffect="non-scaling-stroke"
        />
      </svg>
      <span />
      <figcaption className="figures flex justify-between text-sm text-soft">
        <span>{clock(hour.from)}</span>
        <span>computed from history</span>
        <span>{clock(hour.to)}</span>
      </figcaption>
    </figure>
  );
}
