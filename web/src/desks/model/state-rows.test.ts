// @vitest-environment jsdom
import { expect, it } from 'vitest';
import { pasted } from './state-rows';

const row = (value: string, name: string) => ({ key: name, value, name });
const texts = (text: string, rows = [row('4', 'Hold')]) => pasted(text, rows).map((r) => `${r.value} ${r.name}`);

it.each([
  ['0\tStopped\n1\tRunning\n', ['4 Hold', '0 Stopped', '1 Running']],
  ['Fill\nHeat', ['4 Hold', '5 Fill', '6 Heat']],
  ['\n\n', ['4 Hold']],
])('takes rows of a spreadsheet: %j', (text, wanted) => {
  expect(texts(text)).toEqual(wanted);
});

it('counts names from 0 where there is nothing yet', () => {
  expect(texts('Closed\nOpen', [])).toEqual(['0 Closed', '1 Open']);
});
