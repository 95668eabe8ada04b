// Times of the week, in words.

import type { Hours } from '../api/model';

export const DAYS = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const;

/** The zone of this browser, by its name. */
export const ownZone = () => Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC';

/** No times at all: always. */
export const always = (): Hours => ({ zone: ownZone(), windows: [] });

const short = (day: string) => day.slice(0, 1).toUpperCase() + day.slice(1, 3);

/** Days in a row are said by the first and the last. */
function daysWords(days: readonly string[]): string {
  const on = DAYS.filter((day) => days.includes(day));
  if (on.length === DAYS.length) return 'every day';
  const runs: string[][] = [];
  for (const day of on) {
    const last = runs.at(-1);
    if (last && DAYS.indexOf(day) === DAYS.indexOf(last.at(-1) as (typeof DAYS)[number]) + 1) last.push(day);
    else runs.push([day]);
  }
  return runs
    .map((run) => (run.length > 2 ? `${short(run[0] ?? '')}–${short(run.at(-1) ?? '')}` : run.map(short).join(', ')))
    .join(', ');
}

/** “Mon–Fri 22:00–06:00, Sat, Sun every hour”. */
export function hoursWords(hours: Hours): string {
  if (hours.windows.length === 0) return 'always';
  const whole = (from: string, to: string) => from === to && from === '00:00';
  return hours.windows.map((w) => `${daysWords(w.days)} ${whole(w.from, w.to) ? 'all day' : `${w.from}–${w.to}`}`).join('; ');
}
