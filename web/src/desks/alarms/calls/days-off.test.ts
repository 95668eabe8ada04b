import { expect, test } from 'vitest';
import { daysOffOf } from './days-off';

const calendar = (...events: string[]) =>
  ['BEGIN:VCALENDAR', 'VERSION:2.0', 'PRODID:-//Works//Calendar//EN', ...events, 'END:VCALENDAR', ''].join('\r\n');
const event = (...lines: string[]) =>
  ['BEGIN:VEVENT', 'UID:1@works.example', 'DTSTAMP:20260101T000000Z', ...lines, 'END:VEVENT'].join('\r\n');

test('whole days are taken, each of several, and meetings are not', async () => {
  const text = calendar(
    event('DTSTART;VALUE=DATE:20261225', 'DTEND;VALUE=DATE:20261227', 'SUMMARY:Christmas'),
    event('DTSTART:20261228T080000Z', 'DTEND:20261228T090000Z', 'SUMMARY:Meeting'),
    event('DTSTART;VALUE=DATE:20260403', 'SUMMARY:Good Friday'),
  );
  expect(await daysOffOf(text)).toEqual([
    { date: '2026-04-03', name: 'Good Friday' },
    { date: '2026-12-25', name: 'Christmas' },
    { date: '2026-12-26', name: 'Christmas' },
  ]);
});

test('what comes again each year is taken for some years', async () => {
  const days = await daysOffOf(calendar(event('DTSTART;VALUE=DATE:20200101', 'RRULE:FREQ=YEARLY', 'SUMMARY:New Year')));
  expect(days[0]).toEqual({ date: '2020-01-01', name: 'New Year' });
  expect(days.every((day) => day.date.endsWith('-01-01'))).toBe(true);
  expect(days.length).toBeGreaterThan(10);
});

test.each([
  ['nonsense', 'no calendar file'],
  [calendar(), 'no event'],
  [calendar(event('DTSTART;VALUE=DATE:20200101', 'DTEND;VALUE=DATE:20290101')), 'more than'],
])('what cannot be taken is refused as a whole', async (text, words) => {
  await expect(daysOffOf(text)).rejects.toThrow(words);
});
