// A recorder as it is typed, as it is stored, and in words.

import type { RecorderSet, RecordWhen, TagChoice, Track } from '../../api/model';
import { numberOf, textOf } from '../../parts/form';
import { EVERY_TAG } from '../../parts/tag-choices';
import { type Edge, triggerWords } from '../../parts/trigger';

export const TRACKS: readonly { track: Track; title: string; hint: string }[] = [
  { track: 'value', title: 'value', hint: 'what holds at the end of the span' },
  { track: 'average', title: 'average', hint: 'weighted by time' },
  { track: 'minimum', title: 'minimum', hint: 'of the span' },
  { track: 'maximum', title: 'maximum', hint: 'of the span' },
  { track: 'sum', title: 'sum', hint: 'of the values that came' },
];

export type SpanUnit = 'ms' | 's' | 'min' | 'h';
const SPAN: Record<SpanUnit, number> = { ms: 1, s: 1000, min: 60_000, h: 3_600_000 };

/** A span in the largest unit in which it is a whole number. */
export function spanOf(ms: number): { count: string; unit: SpanUnit } {
  const unit = (['h', 'min', 's'] as const).find((one) => ms >= SPAN[one] && ms % SPAN[one] === 0) ?? 'ms';
  return { count: textOf(ms / SPAN[unit]), unit };
}

/** “every minute”, “every 10 s”. */
export function everyWords(ms: number): string {
  const { count, unit } = spanOf(ms);
  const one: Partial<Record<SpanUnit, string>> = { h: 'hour', min: 'minute', s: 'second' };
  return count === '1' && one[unit] ? `every ${one[unit]}` : `every ${count} ${unit}`;
}

export interface RecorderValues {
  name: string;
  note: string;
  running: boolean;
  tags: string[];
  choices: TagChoice[];
  on: RecordWhen['on'];
  every: string;
  everyUnit: SpanUnit;
  offset: string;
  offsetUnit: SpanUnit;
  keep: Track[];
  deadband: string;
  percent: boolean;
  edge: Edge;
  trigger: string;
  keep_days: string;
}

/** What a form begins with; a new recorder begins with the chosen place. */
export function valuesOf(set: RecorderSet | undefined, trigger: string, at: string | undefined): RecorderValues {
  const when = set?.when ?? { on: 'interval', every_ms: 60_000, offset_ms: 0, keep: ['value'] };
  const every = spanOf(when.on === 'interval' ? when.every_ms : 60_000);
  const offset = when.on === 'interval' && when.offset_ms > 0 ? spanOf(when.offset_ms) : { count: '0', unit: 's' as const };
  return {
    name: set?.name ?? '',
    note: set?.note ?? '',
    running: set?.running ?? true,
    tags: set?.tags ?? [],
    choices: (set?.choices ?? (at ? [{ ...EVERY_TAG, place: at }] : [])).map((one) => ({ ...EVERY_TAG, ...one })),
    on: when.on,
    every: every.count,
    everyUnit: every.unit,
    offset: offset.count,
    offsetUnit: offset.unit,
    keep: when.on === 'interval' ? when.keep : ['value'],
    deadband: textOf(when.on === 'change' ? when.deadband : 0),
    percent: when.on === 'change' ? when.percent : false,
    edge: when.on === 'event' ? when.edge : 'rise',
    trigger,
    keep_days: textOf(set?.keep_days),
  };
}

const milliseconds = (count: string, unit: SpanUnit) => Math.round((numberOf(count) ?? 0) * SPAN[unit]);

export function whenOf(v: RecorderValues): RecordWhen {
  switch (v.on) {
    case 'interval':
      return {
        on: 'interval',
        every_ms: milliseconds(v.every, v.everyUnit),
        offset_ms: milliseconds(v.offset, v.offsetUnit),
        keep: TRACKS.map(({ track }) => track).filter((track) => v.keep.includes(track)),
      };
    case 'change':
      return { on: 'change', deadband: numberOf(v.deadband) ?? 0, percent: v.percent };
    case 'event':
      return { on: 'event', edge: v.edge };
    case 'hand':
      return { on: 'hand' };
  }
}

export function setOf(v: RecorderValues): Omit<RecorderSet, 'order'> {
  const trigger = v.on === 'event' && v.trigger.trim() !== '';
  return {
    name: v.name.trim(),
    note: v.note,
    running: v.running,
    tags: v.tags,
    choices: v.choices,
    when: whenOf(v),
    trigger: trigger ? { text: v.trigger, mixed: 'convert' } : null,
    keep_days: v.keep_days.trim() === '' ? null : (numberOf(v.keep_days) ?? 0),
  };
}

/** When it records, as the list says it. */
export function whenWords(set: RecorderSet, trigger: string): string {
  const { when } = set;
  switch (when.on) {
    case 'interval': {
      const offset = when.offset_ms > 0 ? ` + ${spanOf(when.offset_ms).count} ${spanOf(when.offset_ms).unit}` : '';
      return `${everyWords(when.every_ms)}${offset}: ${when.keep.join(', ')}`;
    }
    case 'change':
      if (when.deadband === 0) return 'when a value changes';
      return `when a value changes by more than ${when.deadband}${when.percent ? ' % of its range' : ''}`;
    case 'event':
      return `when ${triggerWords(trigger, when.edge)}`;
    case 'hand':
      return 'when somebody says so';
  }
}

/** One choice in words; names come from outside. */
export function choiceWords(choice: TagChoice, names: { place?: string; class?: string; connection?: string }): string {
  const words = [
    choice.name && `named “${choice.name}”`,
    choice.words && `with “${choice.words}” in the path`,
    choice.unit && `in ${choice.unit}`,
    choice.class && `of class ${names.class ?? '…'}`,
    choice.connection && `read from ${names.connection ?? '…'}`,
    choice.place && `under ${names.place ?? '…'}`,
  ].filter(Boolean);
  return words.length === 0 ? 'no tags yet' : `tags ${words.join(' ')}`;
}

/** A number of samples as people say it: 1.3 million. */
export function manyWords(n: number): string {
  if (n >= 1e9) return `${(n / 1e9).toPrecision(2)} billion`;
  if (n >= 1e6) return `${(n / 1e6).toPrecision(2)} million`;
  if (n >= 1e4) return `${Math.round(n / 1000).toLocaleString('en')},000`;
  return Math.round(n).toLocaleString('en');
}

/** A number of days as people say it. */
export function daysWords(days: number): string {
  if (days > 36_500) return 'more than 100 years';
  if (days > 730) return `${Math.round(days / 365)} years`;
  if (days > 60) return `${Math.round(days / 30.4)} months`;
  return days < 2 ? `${Math.max(1, Math.round(days * 24))} h` : `${Math.round(days)} days`;
}
