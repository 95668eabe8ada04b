import { expect, test } from 'vitest';
import { hoursWords } from './hours';

const at = (days: string[], from: string, to: string) => ({ days, from, to });

test.each([
  [[], 'always'],
  [[at(['monday', 'tuesday', 'wednesday', 'thursday', 'friday'], '22:00', '06:00')], 'Mon–Fri 22:00–06:00'],
  [[at(['sunday', 'saturday'], '00:00', '00:00')], 'Sat, Sun all day'],
  [[at(['monday', 'wednesday', 'thursday', 'friday'], '06:00', '14:00')], 'Mon, Wed–Fri 06:00–14:00'],
  [
    [
      at(['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'], '22:00', '06:00'),
      at(['sunday'], '06:00', '22:00'),
    ],
    'every day 22:00–06:00; Sun 06:00–22:00',
  ],
])('times of the week read as people say them: %j', (windows, words) => {
  expect(hoursWords({ zone: 'UTC', windows })).toBe(words);
});
