// Periods as people type them: “last 90 min”, “yesterday”, “2026-11-27 06:00 to 14:00”.

/** A span in seconds that ends at an instant (milliseconds), or that ends now and goes on with it. */
export interface Period {
  span: number;
  end?: number;
}

const UNITS: [RegExp, number][] = [
  [/^(s|sec|seconds?)$/, 1],
  [/^(m|min|minutes?)$/, 60],
  [/^(h|hours?)$/, 3600],
  [/^(d|days?)$/, 86_400],
  [/^(w|weeks?)$/, 604_800],
];
/** Five years: what one picture may cover. */
export const LONGEST = 5 * 366 * 86_400;

export const HELP = 'Write it like “last 90 min”, “yesterday” or “2026-11-27 06:00 to 14:00”.';

const midnight = (at: number, days = 0) => {
  const day = new Date(at);
  return new Date(day.getFullYear(), day.getMonth(), day.getDate() + days).getTime();
};

/** Whole days, weeks (from Monday) and months by their names; those that go on end now. */
function named(text: string, now: number): [number, number] | undefined {
  const today = new Date(now);
  const monday = midnight(now, -((today.getDay() + 6) % 7));
  const month = (back: number) => new Date(today.getFullYear(), today.getMonth() - back, 1).getTime();
  switch (text) {
    case 'today':
      return [midnight(now), now];
    case 'yesterday':
      return [midnight(now, -1), midnight(now)];
    case 'this week':
      return [monday, now];
    case 'last week':
      return [midnight(monday, -7), monday];
    case 'this month':
      return [month(0), now];
    case 'last month':
      return [month(1), month(0)];
    default:
      return undefined;
  }
}

const INSTANT = /^(?:(\d{4})-(\d\d?)-(\d\d?)|(today|yesterday))?[ t]*(?:(\d\d?):(\d\d)(?::(\d\d))?)?$/;

/** An instant: its day, if it was said, and the time of day; “now” is one by itself. */
interface Instant {
  day?: number;
  clock: [number, number, number];
  exact?: number;
}

function instant(text: string, now: number): Instant | undefined {
  if (text === 'now') return { day: midnight(now), clock: [0, 0, 0], exact: now };
  const found = INSTANT.exec(text);
  if (!found || text === '') return undefined;
  const [, year, month, date, word, hour, minute, second] = found;
  const clock: Instant['clock'] = [Number(hour ?? 0), Number(minute ?? 0), Number(second ?? 0)];
  const [h, m, s] = clock;
  if (h > 24 || m > 59 || s > 59 || (h === 24 && m + s > 0)) return undefined;
  if (word) return { day: midnight(now, word === 'yesterday' ? -1 : 0), clock };
  if (!year) return { clock };
  const day = new Date(Number(year), Number(month) - 1, Number(date));
  // The calendar of JavaScript turns 2026-02-30 into another day.
  if (day.getMonth() !== Number(month) - 1 || day.getDate() !== Number(date)) return undefined;
  return { day: day.getTime(), clock };
}

/** The instant on a day, by the calendar: days with 23 or 25 hours too. */
function on(day: number, { clock: [h, m, s], exact }: Instant): number {
  const date = new Date(day);
  return exact ?? new Date(date.getFullYear(), date.getMonth(), date.getDate(), h, m, s).getTime();
}

/** What was typed, in the time zone of this browser; or a sentence that says what is wrong with it. */
export function parsePeriod(typed: string, now: number): Period | string {
  const text = typed.trim().toLowerCase().replace(/\s+/g, ' ');
  const span = /^(?:last )?(\d+(?:[.,]\d+)?) ?([a-z]+)$/.exec(text);
  const unit = span && UNITS.find(([words]) => words.test(span[2] ?? ''));
  if (span && unit) {
    const seconds = Number((span[1] ?? '').replace(',', '.')) * unit[1];
    if (!(seconds >= 1)) return 'The shortest period is one second.';
    return seconds > LONGEST ? 'The longest period is five years.' : { span: seconds };
  }
  const whole = named(text, now);
  if (whole) return between(...whole);
  const [first, last, more] = text.replace(/^from /, '').split(/ to | until | ?[–—] ?| - /);
  const from = instant(first?.trim() ?? '', now);
  const to = last === undefined ? undefined : instant(last.trim(), now);
  if (!from || more !== undefined || (last !== undefined && !to)) return HELP;
  if (!to) return from.day !== undefined && !text.includes(':') ? between(from.day, midnight(from.day, 1)) : HELP;
  // A time alone is of the day of the other one; two of them are the latest that have begun.
  const today = midnight(now);
  if (from.day !== undefined || to.day !== undefined) {
    // From 22:00 of a day to 06:00 is until the next morning.
    const day = from.day ?? to.day ?? today;
    const over = on(day, from) >= on(day, to) ? 1 : 0;
    if (to.day === undefined) return between(on(day, from), on(midnight(day, over), to));
    if (from.day === undefined) return between(on(midnight(day, -over), from), on(day, to));
    return between(on(from.day, from), on(to.day, to));
  }
  const back = on(today, from) >= on(today, to) ? 1 : 0;
  const late = on(midnight(now, -back), from) > now ? 1 : 0;
  return between(on(midnight(now, -back - late), from), on(midnight(now, -late), to));
}

/** An instant that is over: “03:12” is the last time that it was so late, “90 min” so long ago; or what is wrong with it. */
export function parseInstant(typed: string, now: number): number | string {
  const text = typed
    .trim()
    .toLowerCase()
    .replace(/\s+/g, ' ')
    .replace(/ (ago|earlier)$/, '');
  const long = parsePeriod(text, now);
  if (typeof long === 'object' && long.end === undefined) return now - long.span * 1000;
  const found = instant(text, now);
  if (!found || (!text.includes(':') && found.exact === undefined))
    return 'Write it like “03:12”, “yesterday 22:00” or “2026-11-27 06:00”.';
  const today = on(midnight(now), found);
  const at = found.day === undefined ? (today > now ? on(midnight(now, -1), found) : today) : on(found.day, found);
  return at > now ? 'That is still to come.' : at;
}

function between(from: number, to: number): Period | string {
  if (to <= from) return 'The end must lie after the start.';
  const span = (to - from) / 1000;
  if (span < 1) return 'The shortest period is one second.';
  return span > LONGEST ? 'The longest period is five years.' : { span, end: to };
}

/** An instant as the browser's own field for date and time writes it. */
export function fieldOf(at: number): string {
  const time = new Date(at);
  const two = (n: number) => String(n).padStart(2, '0');
  const day = `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())}`;
  return `${day}T${two(time.getHours())}:${two(time.getMinutes())}:${two(time.getSeconds())}`;
}

/** A period that has ended, as a question to the server; nothing where none was chosen. */
export function periodQuery(period: Period | undefined): { from?: string; to?: string } {
  if (period?.end === undefined) return {};
  const text = (at: number) => new Date(Math.round(at)).toISOString();
  return { from: text(period.end - period.span * 1000), to: text(period.end) };
}
