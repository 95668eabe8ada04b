// What a figure of alarms leads to.

import type { RuleOrder } from './rule-figures';

export type Measure = 'average' | 'most' | 'flooded' | 'top_ten' | 'chattering' | 'fleeting' | 'stale' | 'urgent';

/** The order of the rules that shows which are behind a figure. */
export const BEHIND: Partial<Record<Measure, RuleOrder>> = {
  top_ten: 'count',
  chattering: 'chattering',
  fleeting: 'fleeting',
  stale: 'standing_s',
};
