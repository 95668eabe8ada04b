// A dispatch as it is typed, as it is stored, and in words.

import type { Covers, DeliverySet, DispatchSet, DispatchWhen, ReportFormat, ReportSet, Section } from '../../api/model';
import { spanWords } from '../../parts/text';
import { type Edge, triggerWords } from '../../parts/trigger';

export const FORMATS: readonly ReportFormat[] = ['pdf', 'html', 'xlsx', 'csv', 'json'];
export const USUAL_FILE = '{report} {to}';

export const COVERS: readonly { covers: Covers; title: string }[] = [
  { covers: 'own', title: 'as long as the report says, up to then' },
  { covers: 'hour', title: 'the hour before' },
  { covers: 'day', title: 'the day before' },
  { covers: 'week', title: 'the week before, from Monday' },
  { covers: 'month', title: 'the month before' },
  { covers: 'shift', title: 'the shift that ended last' },
];

export const DAYS = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'] as const;

/** Times that come again, as people choose them; whatever else there is stays a line of cron. */
export type Preset =
  | { every: 'hour'; minute: number }
  | { every: 'day'; time: string }
  | { every: 'week'; time: string; days: number[] }
  | { every: 'month'; time: string; day: number }
  | { every: 'cron' };

const two = (n: number) => String(n).padStart(2, '0');
/** A whole number from `low` to `high`, written plainly. */
function whole(text: string | undefined, low: number, high: number): number | undefined {
  if (!text || !/^\d{1,2}$/.test(text)) return undefined;
  const n = Number(text);
  return n >= low && n <= high ? n : undefined;
}

/** What a line of cron says, where people can choose it. */
export function presetOf(cron: string): Preset {
  const [m, h, day, month, weekday, ...more] = cron.trim().split(/\s+/);
  const minute = whole(m, 0, 59);
  const other: Preset = { every: 'cron' };
  if (minute === undefined || month !== '*' || more.length > 0) return other;
  if (h === '*' && day === '*' && weekday === '*') return { every: 'hour', minute };
  const hour = whole(h, 0, 23);
  if (hour === undefined) return other;
  const time = `${two(hour)}:${two(minute)}`;
  if (day === '*' && weekday === '*') return { every: 'day', time };
  if (day === '*' && weekday) {
    const days = weekday.split(',').map((one) => whole(one, 1, 7));
    return days.every((one) => one !== undefined) ? { every: 'week', time, days: days as number[] } : other;
  }
  const of = whole(day, 1, 31);
  return of !== undefined && weekday === '*' ? { every: 'month', time, day: of } : other;
}

/** The line of cron that says the same; nothing where the choice is not complete. */
export function cronOf(preset: Preset): string | undefined {
  if (preset.every === 'cron') return undefined;
  if (preset.every === 'hour') return `${preset.minute} * * * *`;
  const time = /^(\d{2}):(\d{2})$/.exec(preset.time);
  if (!time) return undefined;
  const clock = `${Number(time[2])} ${Number(time[1])}`;
  if (preset.every === 'day') return `${clock} * * *`;
  if (preset.every === 'month') return `${clock} ${preset.day} * *`;
  return preset.days.length > 0 ? `${clock} * * ${[...preset.days].sort().join(',')}` : undefined;
}

/** “Every day at 06:00”. */
export function presetWords(preset: Preset): string | undefined {
  switch (preset.every) {
    case 'hour':
      return preset.minute === 0 ? 'Every full hour' : `Every hour at minute ${preset.minute}`;
    case 'day':
      return `Every day at ${preset.time}`;
    case 'week':
      return `Every ${preset.days.map((day) => DAYS[day - 1]).join(', ')} at ${preset.time}`;
    case 'month':
      return `On day ${preset.day} of every month at ${preset.time}`;
    case 'cron':
      return undefined;
  }
}

/** A delivery as it is typed: its addresses as one text. */
export interface DeliveryValues {
  connection: string;
  to: string;
  file: string;
  formats: ReportFormat[];
}

/** The addresses of a text, divided by commas or spaces. */
export const addressesOf = (text: string): string[] => text.split(/[,;\s]+/).filter(Boolean);

export interface DispatchValues {
  name: string;
  report: string;
  running: boolean;
  on: DispatchWhen['on'];
  cron: string;
  missed: 'all' | 'last' | 'none';
  edge: Edge;
  trigger: string;
  covers: Covers;
  shifts: string;
  deliveries: DeliveryValues[];
}

export function valuesOf(set: DispatchSet | undefined, trigger: string, report: string): DispatchValues {
  const when = set?.when ?? { on: 'schedule', cron: '0 6 * * *', missed: 'all' };
  return {
    name: set?.name ?? '',
    report: set?.report ?? report,
    running: set?.running ?? true,
    on: when.on,
    cron: when.on === 'schedule' ? when.cron : '0 6 * * *',
    missed: when.on === 'schedule' || when.on === 'shift' ? when.missed : 'all',
    edge: when.on === 'event' ? when.edge : 'rise',
    trigger,
    covers: set?.covers ?? 'day',
    shifts: set?.shifts ?? '',
    deliveries: (set?.deliveries ?? []).map((one) => ({ ...one, to: one.to.join(', ') })),
  };
}

function whenOf(v: DispatchValues): DispatchWhen {
  switch (v.on) {
    case 'hand':
      return { on: 'hand' };
    case 'schedule':
      return { on: 'schedule', cron: v.cron.trim(), missed: v.missed };
    case 'shift':
      return { on: 'shift', missed: v.missed };
    case 'event':
      return { on: 'event', edge: v.edge };
  }
}

export function setOf(v: DispatchValues): Omit<DispatchSet, 'order'> {
  const trigger = v.on === 'event' && v.trigger.trim() !== '';
  return {
    name: v.name.trim(),
    report: v.report,
    running: v.running,
    when: whenOf(v),
    trigger: trigger ? { text: v.trigger, mixed: 'convert' } : null,
    covers: v.covers,
    shifts: (v.on === 'shift' || v.covers === 'shift') && v.shifts ? v.shifts : null,
    deliveries: v.deliveries.map((one): DeliverySet => ({ ...one, to: addressesOf(one.to) })),
  };
}

/** When it makes a report, as its sentence begins; `words` are those of a line of cron, where the server has read it. */
export function whenWords(v: DispatchValues, words: string, shifts: string): string {
  switch (v.on) {
    case 'hand':
      return 'When somebody says so';
    case 'schedule':
      return presetWords(presetOf(v.cron)) ?? (words.replace(/\.$/, '') || v.cron);
    case 'shift':
      return shifts ? `When a shift of “${shifts}” ends` : 'When a shift ends';
    case 'event':
      return v.trigger.trim() ? `When ${triggerWords(v.trigger, v.edge)}` : 'When something happens';
  }
}

/** What the report covers, after “for”. */
export function coversWords(covers: Covers, report: ReportSet | undefined): string {
  if (covers === 'own') return report ? `the last ${spanWords(report.minutes * 60)}` : 'its own period';
  return COVERS.find((one) => one.covers === covers)?.title.replace(', from Monday', '') ?? covers;
}

/** “PDF and XLSX”. */
export function formatWords(formats: readonly string[]): string {
  const names = FORMATS.filter((format) => formats.includes(format)).map((format) => format.toUpperCase());
  return names.length > 1 ? `${names.slice(0, -1).join(', ')} and ${names.at(-1)}` : (names[0] ?? 'nothing yet');
}

/** Where one delivery goes. */
export function deliveryWords(delivery: DeliveryValues, connection: string): string {
  const all = addressesOf(delivery.to);
  const to = all.length === 0 ? `“${connection}”` : all.length <= 2 ? all.join(' and ') : `${all[0]} and ${all.length - 1} more`;
  return `${to} as ${formatWords(delivery.formats)}`;
}

/** What a format leaves out of a report with these sections; nothing where it carries all. */
export function leftOut(format: ReportFormat, sections: readonly Section[]): string | undefined {
  const kinds = new Set(sections.map((section) => section.kind));
  const without = [
    ...(format === 'csv' && kinds.has('text') ? ['texts'] : []),
    ...(['csv', 'xlsx', 'json'].includes(format) && kinds.has('trend') ? ['trends'] : []),
  ];
  return without.length > 0 ? `${format.toUpperCase()} leaves out its ${without.join(' and ')}.` : undefined;
}
