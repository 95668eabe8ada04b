import { expect, test } from 'vitest';
import { LANGUAGES, type PushTag, pushCode } from './push-code';

const TAGS: PushTag[] = [
  { title: 'Works/Boiler/Steam flow', type: 'number' },
  { title: 'Works/Boiler/Burner', type: 'switch' },
  { title: `Works/O'Hara "A"/Lot #(1)`, type: 'text' },
];

/** What stands in the body of the shell’s request. */
const bodyOf = (code: string) => JSON.parse(code.slice(code.indexOf("-d '") + 4, code.lastIndexOf("'")).replaceAll(`'\\''`, "'"));

test.each(LANGUAGES)('%s names the server, the token and every tag', (language) => {
  const code = pushCode(language, 'https://havrel.example', 'hv_1', TAGS);
  expect(code).toContain('https://havrel.example/api/push');
  expect(code).toContain('Bearer');
  expect(code).toContain('hv_1');
  expect(code).toContain('Works/Boiler/Steam flow');
  expect(code.split('LV')).toHaveLength(2);
});

test('names with quotes stay one text in each language', () => {
  expect(bodyOf(pushCode('shell', 'http://h', 't', TAGS))).toEqual([
    { tag: TAGS[0]?.title, value: 4.2 },
    { tag: TAGS[1]?.title, value: true },
    { tag: TAGS[2]?.title, value: 'LV' },
  ]);
  expect(pushCode('python', 'http://h', 't', TAGS)).toContain(
    `{"tag": "Works/O'Hara \\"A\\"/Lot #(1)", "value": "LV", "time": now}`,
  );
  expect(pushCode('python', 'http://h', 't', TAGS)).toContain('"value": True');
  expect(pushCode('sheet', 'http://h', 't', TAGS)).toContain(`[tag = "Works/O'Hara ""A""/Lot #(#)(1)", value = "LV"]`);
});
