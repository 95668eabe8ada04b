// Days off out of a calendar file (iCalendar, RFC 5545): events that take whole days, and those that come again each year.

import type { ShiftPatternSet } from '../../../api/model';

type DayOff = ShiftPatternSet['off'][number];

/** Events that come again are taken for so many years from this one. */
const YEARS = 10;
const MOST = 1000;

/** The days of a calendar file. What is no calendar, or has no such day, is refused as a whole. */
export async function daysOffOf(text: string): Promise<DayOff[]> {
  const { default: ical } = await import('ical.js');
  let calendar: InstanceType<typeof ical.Component>;
  try {
    calendar = new ical.Component(ical.parse(text));
  } catch {
    throw new Error('it is no calendar file (ICS)');
  }
  const last = new Date().getFullYear() + YEARS;
  const days = new Map<string, string>();
  for (const component of calendar.getAllSubcomponents('vevent')) {
    const event = new ical.Event(component);
    // What begins at a time of day is a meeting, not a day off.
    if (!event.startDate?.isDate) continue;
    const length = Math.max(1, Math.round(event.duration.toSeconds() / 86_400));
    const starts: InstanceType<typeof ical.Time>[] = [];
    if (event.isRecurring()) {
      const all = event.iterator();
      for (let next = all.next(); next && next.year <= last && starts.length < MOST; next = all.next()) starts.push(next);
    } else {
      starts.push(event.startDate);
    }
    for (const start of starts) {
      for (let n = 0; n < length; n += 1) {
        const day = start.clone();
        day.adjust(n, 0, 0, 0);
        days.set(day.toString().slice(0, 10), (event.summary ?? '').slice(0, 200));
      }
      if (days.size > MOST) throw new Error(`it has more than ${MOST} days`);
    }
  }
  if (days.size === 0) throw new Error('it has no event that takes a whole day');
  return [...days].map(([date, name]) => ({ date, name })).sort((a, b) => a.date.localeCompare(b.date));
}
