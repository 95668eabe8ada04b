// What figures of spans and their lengths are called.

import type { Figure, LookupEvery } from '../api/model';

export const FIGURE_NAMES: Record<Figure, string> = {
  average: 'average',
  minimum: 'minimum',
  maximum: 'maximum',
  sum: 'sum of values',
  first: 'first',
  last: 'last',
  count: 'count of values',
  good: 'good, %',
  states: 'time in each state',
};

export const SPAN_UNITS: Record<LookupEvery['unit'], string> = {
  millisecond: 'ms',
  second: 's',
  minute: 'min',
  hour: 'h',
  day: 'days',
  week: 'weeks',
  month: 'months',
};
