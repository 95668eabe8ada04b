// The range rule: a hairline for the range, thicker between the limits, a drop at the value, a ring at the setpoint.

import { useValue } from '../api/live';
import type { RuleSet, TagSet } from '../api/model';
import { hueOf } from './colours';
import { numberIn } from './reading';
import { isLimit } from './rule-kinds';

const WIDTH = 92;
const EDGE = 6;

interface Props {
  no: number;
  set: TagSet;
  rules: readonly RuleSet[];
  /** Number of the tag that holds the setpoint. */
  setpoint?: number | undefined;
}

/** The limits that are on and whose levels stand fast. */
export const fixedLimits = (rules: readonly RuleSet[]) =>
  rules.flatMap(({ enabled, kind, level, level_formula, priority }) =>
    enabled && level !== null && !level_formula && isLimit(kind) ? [{ kind, level, priority }] : [],
  );

/** The priority of the gravest limit that a value is beyond; 0 for none. */
export function beyond(value: number, rules: readonly RuleSet[]): number {
  const hit = fixedLimits(rules).filter((r) => (r.kind.startsWith('high') ? value > r.level : value < r.level));
  return Math.max(0, ...hit.map((r) => r.priority));
}

export function RangeRule(props: Props) {
  const { range_low: low, range_high: high } = props.set;
  if (low === null || high === null) return <span className="inline-block" style={{ width: WIDTH }} />;
  return <Drawn {...props} low={low} high={high} />;
}

function Drawn({ no, set, rules, setpoint, low, high }: Props & { low: number; high: number }) {
  const value = useValue(no);
  const number = numberIn(value?.value);
  const x = (v: number) => EDGE + ((Math.min(Math.max(v, low), high) - low) / (high - low)) * (WIDTH - 2 * EDGE);
  const inner = (side: 'low' | 'high') => {
    const levels = fixedLimits(rules)
      .filter((r) => r.kind.startsWith(side))
      .map((r) => r.level);
    return side === 'low' ? Math.max(low, ...levels) : Math.min(high, ...levels);
  };
  const [a, b] = [x(inner('low')), x(inner('high'))];
  const gravest = number === undefined ? 0 : beyond(number, rules);
  const hue = gravest > 0 ? hueOf(gravest) : 'var(--color-ink)';
  const outside = number === undefined || (number >= low && number <= high) ? undefined : number > high ? 'above' : 'below';
  const where = outside ? `${outside} its` : 'in a';
  const words = `${number ?? 'no value'} ${set.unit} ${where} range of ${low} to ${high}`;
  return (
    <svg width={WIDTH} height="22" viewBox={`0 0 ${WIDTH} 22`} role="img" aria-label={words} className="shrink-0">
      <line x1={EDGE} x2={WIDTH - EDGE} y1="15" y2="15" stroke="var(--color-firm)" strokeWidth="1" />
      <line x1={a} x2={b} y1="15" y2="15" stroke="var(--span)" strokeWidth="3" />
      <path d={`M${a} 11.5v7M${b} 11.5v7`} stroke="var(--span)" strokeWidth="1" />
      {setpoint !== undefined && <Ring no={setpoint} x={x} />}
      {outside && (
        // Beyond the range: an open drop at its end, and an arrow on.
        <path
          d={outside === 'above' ? `M${WIDTH - 4} 11.5l3.5 3.5l-3.5 3.5` : 'M4 11.5l-3.5 3.5l3.5 3.5'}
          fill="none"
          stroke={hue}
          strokeWidth="1.6"
        />
      )}
      {number !== undefined && (
        <path
          d={`M${x(number)} 14.5l-3.4 -5.2a4.1 4.1 0 1 1 6.8 0z`}
          fill={outside ? 'var(--color-raised)' : hue}
          stroke={hue}
          strokeWidth="1.2"
          opacity={value?.quality === 'bad' ? 0.35 : 1}
        />
      )}
    </svg>
  );
}

function Ring({ no, x }: { no: number; x: (v: number) => number }) {
  const value = useValue(no);
  if (typeof value?.value !== 'number') return null;
  return <circle cx={x(value.value)} cy="15" r="3" fill="var(--color-raised)" stroke="var(--color-ink)" strokeWidth="1.3" />;
}
