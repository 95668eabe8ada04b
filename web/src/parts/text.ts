// How values, times and spans of time are written.

import type { Status } from '../api/live';

/** A number with the tag's digits; other values as they are. */
export function printed(value: unknown, decimals: number): string {
  if (typeof value === 'number') return value.toFixed(decimals);
  if (typeof value === 'boolean') return value ? 'on' : 'off';
  if (typeof value === 'string') return value;
  return '–';
}

const two = (n: number) => String(n).padStart(2, '0');

/** The time of day where the browser is. */
export function clock(at: number | string): string {
  const time = new Date(at);
  return `${two(time.getHours())}:${two(time.getMinutes())}:${two(time.getSeconds())}`;
}

/** Date and time where the browser is; today without the date. */
export function moment(at: number | string, now = Date.now()): string {
  const time = new Date(at);
  const day = `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())}`;
  return new Date(now).toDateString() === time.toDateString() ? clock(at) : `${day} ${clock(at)}`;
}

/** Date and time where the browser is, also of today; a full minute without its seconds. */
export const minute = (at: number | string): string => moment(at, 0).replace(/:00$/, '');

/** The same where another clock shows another time, by the name of its zone; it is said which clock that is. */
export function minuteIn(at: string, zone: string): string {
  const shown = (timeZone?: string) =>
    new Intl.DateTimeFormat('sv', { dateStyle: 'short', timeStyle: 'medium', ...(timeZone ? { timeZone } : {}) })
      .format(new Date(at))
      .replace(/:00$/, '');
  try {
    const [here, there] = [shown(), shown(zone)];
    return here === there ? here : `${there} ${zone.split('/').at(-1)?.replaceAll('_', ' ')}`;
  } catch {
    // A zone that this browser does not know.
    return shown();
  }
}

/** The end of a path, which is what tells places apart: its last two names. */
export function pathEnd(path: string): string {
  return path.split('/').slice(-2).join(' / ');
}

/** How long something lasts, in the largest units that matter. */
export function lasting(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000));
  if (seconds < 60) return `${seconds} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  const hours = Math.floor(minutes / 60);
  return hours < 48 ? `${hours} h ${two(minutes % 60)}` : `${Math.floor(hours / 24)} d`;
}

/** “1 tag”, “3 tags”. */
export function counted(n: number, one: string, many = `${one}s`): string {
  return `${n.toLocaleString('en')} ${n === 1 ? one : many}`;
}

export const RULE_WORDS = {
  high_high: 'high high',
  high: 'high',
  low: 'low',
  low_low: 'low low',
  deviation: 'deviation',
  rate: 'rate of change',
  state: 'state',
  expression: 'expression',
  bad_quality: 'bad quality',
  no_change: 'no change',
} as const;

/** 0: it goes into history, and operators are not told. */
export const PRIORITY_WORDS: Record<number, string> = {
  4: 'act now',
  3: 'act soon',
  2: 'this shift',
  1: 'for the record',
  0: 'recorded only',
};

export const ALL_STORED = 'all stored';

/** How far history lags behind, and how full the spool is. */
export function stored(status: Status, now: number): string {
  const behind = status.spool_oldest ? now - Date.parse(status.spool_oldest) : 0;
  if (behind < 3000) return ALL_STORED;
  const full = (status.spool_bytes / status.spool_room) * 100;
  return `history ${lasting(behind)} behind · spool ${full < 1 ? 'under 1' : Math.floor(full)} % full`;
}

/** What stands at a step of the clock, and below the plot. */
export function stepWords(seconds: number): string {
  const span = lasting(Math.abs(seconds) * 1000);
  return seconds < 0 ? `clock set back ${span}: these times came twice` : `clock set ahead ${span}`;
}

/** Whether a text may be too long for so many pixels. To cut off what is not costs frames while a long list is scrolled. */
export const mayOverflow = (text: string, width: number) => text.length * 9 > width;

/** A span of the trend in words: “hour”, “15 min”. */
export function spanWords(seconds: number): string {
  const named = { 60: 'minute', 3600: 'hour', 86400: 'day', 604800: 'week' }[seconds];
  if (named) return named;
  return seconds % 3600 === 0 && seconds < 172_800 ? `${seconds / 3600} h` : lasting(seconds * 1000);
}

/** Bytes in the unit that suits them. */
export function bytesWords(n: number): string {
  const units = ['B', 'kB', 'MB', 'GB', 'TB'];
  let [value, unit] = [n, 0];
  while (value >= 1000 && unit < units.length - 1) [value, unit] = [value / 1000, unit + 1];
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toPrecision(2)} ${units[unit]}`;
}
