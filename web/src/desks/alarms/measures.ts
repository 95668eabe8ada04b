// What is measured of alarms, in words, with what the guides have for it (ISA-18.2, IEC 62682, EEMUA 191).

import type { RuleOrder } from './rule-figures';

export type Measure = 'average' | 'most' | 'flooded' | 'top_ten' | 'chattering' | 'fleeting' | 'stale' | 'urgent';

interface Words {
  title: string;
  short: string;
  guide: string;
  unit: '' | '%';
  decimals: number;
  /** The order of the rules that shows which are behind it. */
  rules?: RuleOrder;
}

export const MEASURES: Record<Measure, Words> = {
  average: {
    title: 'Alarms in 10 min, on average',
    short: 'in 10 min, on average',
    guide: 'about 1, at most 2',
    unit: '',
    decimals: 2,
  },
  most: { title: 'Most alarms in any 10 min', short: 'most in 10 min', guide: 'at most 10', unit: '', decimals: 0 },
  flooded: { title: 'Share of the time in floods', short: 'time in floods', guide: 'under 1 %', unit: '%', decimals: 1 },
  top_ten: {
    title: 'Share of the ten most frequent rules',
    short: 'ten most frequent',
    guide: 'at most 5 %',
    unit: '%',
    decimals: 0,
    rules: 'count',
  },
  chattering: {
    title: 'Chattering: 3 or more in a minute',
    short: 'chattering',
    guide: 'none',
    unit: '',
    decimals: 0,
    rules: 'chattering',
  },
  fleeting: {
    title: 'Fleeting: normal again within a minute',
    short: 'fleeting',
    guide: 'none',
    unit: '',
    decimals: 0,
    rules: 'fleeting',
  },
  stale: {
    title: 'Standing for more than 24 h',
    short: 'over 24 h',
    guide: 'fewer than 5',
    unit: '',
    decimals: 0,
    rules: 'standing_s',
  },
  urgent: {
    title: 'Share of priorities 3 and 4',
    short: 'priorities 3 and 4',
    guide: 'about 5 %; of 4 under 1 %',
    unit: '%',
    decimals: 1,
  },
};

export const GRADES: Record<string, string> = { met: 'met', near: 'close', missed: 'not met' };

export function printedFigure({ measure, value }: { measure: string; value: number }): string {
  const { unit, decimals } = MEASURES[measure as Measure];
  return `${value.toFixed(decimals)}${unit && ` ${unit}`}`;
}
