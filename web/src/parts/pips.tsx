// Priority as a column of four bars, filled from the bottom; how they are filled tells the state.

import { type AlarmState, STATE_WORDS, waits } from '../api/alarm-state';
import { hueOf } from './colours';
import { PRIORITY_WORDS } from './text';

export function Pips({ priority, state, quiet }: { priority: number; state: AlarmState; quiet?: boolean }) {
  const hue = hueOf(priority);
  const label = quiet ? undefined : `priority ${priority}, ${PRIORITY_WORDS[priority] ?? ''}, ${STATE_WORDS[state]}`;
  return (
    <svg
      width="15"
      height="16"
      viewBox="0 0 15 16"
      className="shrink-0"
      role={quiet ? 'presentation' : 'img'}
      aria-label={label}
      aria-hidden={quiet}
    >
      {[4, 3, 2, 1].map((bar, row) => {
        const y = row * 4 + 0.5;
        const filled = bar <= priority;
        if (!filled) return <rect key={bar} x="1" y={y} width="13" height="2.5" fill="var(--unfilled)" />;
        if (!waits(state)) {
          return <rect key={bar} x="1.5" y={y + 0.2} width="12" height="2.1" fill="none" stroke={hue} strokeWidth="0.9" />;
        }
        if (state !== 'unacknowledged') {
          return (
            <g key={bar} fill={hue}>
              {[0, 1, 2, 3].map((part) => (
                <path key={part} d={`M${1 + part * 3.5} ${y + 2.5}l1.4 -2.5h1.3l-1.4 2.5z`} />
              ))}
            </g>
          );
        }
        return <rect key={bar} x="1" y={y} width="13" height="2.5" fill={hue} />;
      })}
    </svg>
  );
}

/** The most urgent of several alarms: waiting ones first, then by priority. */
export function mostUrgent<T extends { priority: number; state: AlarmState }>(alarms: readonly T[]): T | undefined {
  const rank = (a: T) => (waits(a.state) ? 100 : 0) + a.priority * 10 + (a.state === 'unacknowledged' ? 1 : 0);
  return alarms.reduce<T | undefined>((best, next) => (!best || rank(next) > rank(best) ? next : best), undefined);
}
