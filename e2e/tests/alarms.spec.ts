// The life of alarms: opened, acknowledged with a comment, shelved and back, latched and reset, out of service, heard.

import { randomUUID } from 'node:crypto';
import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

/** Tags whose values are set by hand here, so that their alarms come and go when these tests want it: below, limit, beyond. */
const VALUES = {
  'Weather/Humidity': [10, 99, 100],
  'Weather/Air pressure': [960, 1045, 1049],
  'Weather/Wind speed': [5, 35, 39],
} as const;
type Name = keyof typeof VALUES;
const NAMES = Object.keys(VALUES) as Name[];
const tags = new Map<string, string>();

/** Sets a value by hand: beyond the limit of its rule, or back. */
async function set(name: Name, beyond: boolean) {
  const data = { value: VALUES[name][beyond ? 2 : 0], reason: 'trial of an alarm', keeps: false };
  const done = await page.request.put(`${server.url}/api/tags/${tags.get(name)}/by-hand`, { data, headers: { Origin: server.url } });
  expect(done.status(), await done.text()).toBe(204);
}

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '1', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  // The tones are counted, as nobody listens.
  await page.addInitScript(() => {
    const count = { notes: 0 };
    Object.assign(window, { heard: count });
    const start = OscillatorNode.prototype.start;
    OscillatorNode.prototype.start = function (when?: number) {
      count.notes += 1;
      return start.call(this, when);
    };
  });
  await enter(page, server);
  const edits = [];
  let revision = 0;
  for (const name of NAMES) {
    const answer = await page.request.get(`${server.url}/api/items/tag`, { params: { text: name, limit: 1 } });
    const found = (await answer.json()) as { revision: number; items: { id: string }[] };
    const tag = found.items[0]?.id ?? '';
    revision = found.revision;
    tags.set(name, tag);
    edits.push({
      op: 'create',
      kind: 'rule',
      id: randomUUID(),
      set: {
        tag,
        name: 'trial',
        kind: 'high',
        level: VALUES[name][1],
        priority: name === 'Weather/Humidity' ? 4 : 2,
        latch: name === 'Weather/Wind speed',
        cause: 'Somebody set it',
        action: 'Release it',
      },
    });
  }
  const headers = { Origin: server.url, 'If-Match': String(revision) };
  const done = await page.request.post(`${server.url}/api/edits`, { data: { why: 'Rules for trial', edits }, headers });
  expect(await done.text()).toContain('revision');
  for (const name of NAMES) await set(name, false);
  await page.getByRole('link', { name: 'Alarms', exact: true }).click();
  await page.getByLabel('Filter alarms').fill('trial');
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const list = () => page.getByRole('grid', { name: 'Standing alarms' });
const row = (words: string) => list().getByRole('row').filter({ hasText: words });
const inspector = () => page.getByRole('complementary', { name: 'Inspector' });
const happened = () => inspector().getByRole('region', { name: 'What happened' });
const part = (name: RegExp) => page.locator('main button[aria-pressed]').filter({ hasText: name });
/** Away from the list, so that it moves again. */
const away = () => page.getByRole('heading', { level: 1 }).hover();

test('an alarm opens with what it says and what to do, and is acknowledged with a comment', async () => {
  await set('Weather/Humidity', true);
  await expect(page).toHaveTitle(/^\(\d+\) Alarms – Havrel$/);
  await row('Humidity').getByRole('button', { name: /Humidity/ }).click();
  await expect(inspector().getByText('not acknowledged', { exact: true })).toBeVisible();
  await expect(inspector()).toContainText('act now');
  await expect(inspector()).toContainText('Release it');
  await expect(inspector()).toContainText('Somebody set it');
  await expect(inspector().getByRole('region', { name: 'Value' })).toContainText(/100.*limit high 99/);
  await accessibility(page);
  await inspector().getByRole('button', { name: 'With comment…' }).click();
  const form = inspector().getByRole('form', { name: 'Acknowledge' });
  await form.getByLabel('Comment').fill('seen at the mast');
  // What was typed outlasts a look elsewhere.
  await inspector().getByRole('button', { name: 'Close inspector' }).click();
  await row('Humidity').getByRole('button', { name: /Humidity/ }).click();
  await inspector().getByRole('button', { name: 'With comment…' }).click();
  await expect(form.getByLabel('Comment')).toHaveValue('seen at the mast');
  await form.getByRole('button', { name: 'Acknowledge' }).click();
  await expect(inspector()).toContainText('acknowledged by Plant engineer');
  await expect(happened().getByRole('listitem').first()).toContainText('acknowledged by Plant engineer');
  await expect(happened().getByRole('listitem').first()).toContainText('“seen at the mast”');
});

test('a note on its tag stays with the alarm, and is taken away again', async () => {
  const notes = inspector().getByRole('region', { name: 'Notes' });
  await expect(notes).toContainText('None in the last year.');
  await notes.getByLabel('New note').fill('The mast stands in the spray at high water.');
  // What was typed outlasts a look elsewhere.
  await inspector().getByRole('button', { name: 'Close inspector' }).click();
  await row('Humidity').getByRole('button', { name: /Humidity/ }).click();
  await expect(notes.getByLabel('New note')).toHaveValue('The mast stands in the spray at high water.');
  await expect(notes.getByLabel('When the note stands')).toHaveValue('came');
  await notes.getByRole('button', { name: 'Add note' }).click();
  await expect(notes.getByRole('listitem')).toContainText(/The mast stands in the spray at high water\. Plant engineer/);
  await expect(notes.getByLabel('New note')).toHaveValue('');
  await accessibility(page);
  await notes.getByRole('button', { name: /^Delete the note “The mast/ }).click();
  await expect(notes).toContainText('None in the last year.');
});

test('it is shelved with a reason and an end, leaves the list, and comes back when it is unshelved', async () => {
  await inspector().getByRole('button', { name: 'Shelve…' }).click();
  const form = inspector().getByRole('form', { name: 'Shelve' });
  await expect(form.getByRole('button', { name: 'Shelve' })).toBeDisabled();
  await form.getByLabel('Reason').fill('mast is painted');
  await form.getByLabel('For').selectOption('four hours');
  await form.getByRole('button', { name: 'Shelve' }).click();
  await expect(inspector()).toContainText(/shelved by Plant engineer until .* left/);
  await expect(inspector()).toContainText('The condition is active now.');
  await away();
  await expect(row('Humidity')).toHaveCount(0);
  await part(/^Suppressed/).click();
  const line = page.getByRole('table', { name: 'Suppressed alarms' }).getByRole('row').filter({ hasText: 'Humidity' });
  await expect(line).toContainText('mast is painted');
  await expect(line).toContainText(/in 3 h|in 4 h/);
  await accessibility(page);
  await line.getByRole('button', { name: /^Unshelve/ }).click();
  await expect(line).toHaveCount(0);
  await expect(inspector().getByText('not acknowledged', { exact: true })).toBeVisible();
  await expect(happened()).toContainText('“mast is painted”');
  await page.getByRole('link', { name: 'Journal' }).click();
  await expect(page.getByText(/Shelved .*Humidity trial/).first()).toBeVisible();
  await page.getByRole('link', { name: 'Alarms', exact: true }).click();
});

test('a latched alarm holds until it is reset', async () => {
  await page.getByLabel('Filter alarms').fill('trial');
  await set('Weather/Wind speed', true);
  await expect(row('Wind speed')).toBeVisible();
  await set('Weather/Wind speed', false);
  await expect(row('Wind speed')).toContainText('latched');
  await row('Wind speed').getByRole('button', { name: /Wind speed/ }).click();
  await inspector().getByRole('button', { name: 'Acknowledge', exact: true }).click();
  await expect(inspector().getByText('latched, acknowledged')).toBeVisible();
  await inspector().getByRole('button', { name: 'Reset' }).click();
  await expect(inspector().getByText('normal', { exact: true })).toBeVisible();
  await expect(happened()).toContainText('reset by Plant engineer');
  await away();
  await expect(row('Wind speed')).toHaveCount(0);
});

test('the list does not move while somebody reads, and says what came and what it hides', async () => {
  await row('Humidity').hover();
  await set('Weather/Air pressure', true);
  await expect(page.getByText('1 more has come while you read.')).toBeVisible();
  await expect(row('Air pressure')).toHaveCount(0);
  await page.getByRole('button', { name: 'Show 1 newer' }).click();
  await expect(row('Air pressure')).toBeVisible();
  await row('Air pressure').hover();
  await set('Weather/Air pressure', false);
  await row('Air pressure').getByRole('button', { name: 'Acknowledge' }).click();
  await expect(row('Air pressure')).toContainText('normal again');
  await away();
  await expect(row('Air pressure')).toHaveCount(0);
  await page.getByLabel('Filter alarms').fill('no such words');
  await expect(page.getByText(/^[1-9]\d* hidden$/)).toBeVisible();
  await page.getByRole('button', { name: 'Show all' }).click();
  await page.getByRole('combobox', { name: 'Class' }).selectOption('without a class');
  await expect(row('Humidity')).toBeVisible();
  await page.getByRole('combobox', { name: 'Class' }).selectOption('Process');
  await expect(row('Humidity')).toHaveCount(0);
  await expect(page.getByText(/^[1-9]\d* hidden$/)).toBeVisible();
  await page.getByRole('button', { name: 'Show all' }).click();
  await page.getByRole('button', { name: 'Priority 4, act now' }).click();
  await expect(row('Humidity')).toHaveCount(0);
  await page.reload();
  await expect(page.getByRole('button', { name: 'Priority 4, act now' })).toHaveAttribute('aria-pressed', 'false');
  await page.getByRole('button', { name: 'Views' }).click();
  await page.getByLabel('Save this place, filter, order and columns as').fill('Without the gravest');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('list', { name: 'Saved views' })).toContainText('Without the gravest');
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Show all' }).click();
  await expect(row('Humidity')).toBeVisible();
  await page.getByRole('button', { name: 'Views' }).click();
  await page.getByRole('button', { name: /^Without the gravest/ }).click();
  await expect(row('Humidity')).toHaveCount(0);
  await page.getByRole('button', { name: 'Show all' }).click();
});

test('everything of it is done by keyboard, and a place is taken out of service as one', async () => {
  await page.getByLabel('Filter alarms').fill('trial');
  await expect(row('Humidity')).toBeVisible();
  await list().focus();
  await page.keyboard.press('Home');
  await page.keyboard.press('Space');
  await expect(page.getByText('1 alarm chosen')).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(inspector()).toContainText('Humidity');
  await page.getByRole('button', { name: 'Choose none' }).click();
  await page.getByPlaceholder('Find a place…').fill('Weather');
  await page.getByRole('treeitem', { name: 'Weather' }).click();
  await page.getByRole('main').getByRole('button', { name: 'Out of service…' }).click();
  const form = page.getByRole('main').getByRole('form', { name: 'Take out of service' });
  await form.getByLabel('Reason').fill('mast is taken down');
  await form.getByRole('button', { name: 'Take out of service every alarm here' }).click();
  await expect(page.getByText(/Took out of service \d+ alarms/)).toBeVisible();
  await part(/^Suppressed [1-9]/).click();
  await expect(page.getByRole('row').filter({ hasText: 'Humidity trial' })).toContainText('out of service');
  await page.getByRole('button', { name: /Put Humidity trial of .* back in service/ }).click();
  await part(/^Standing/).click();
  await expect(row('Humidity')).toBeVisible();
});

test('sound is off until it is switched on, is silenced, and is heard again for the next alarm', async () => {
  const notes = () => page.evaluate(() => (window as unknown as { heard: { notes: number } }).heard.notes);
  expect(await notes()).toBe(0);
  const watch = page.getByRole('contentinfo');
  await watch.getByRole('button', { name: 'Sound for alarms' }).click();
  await watch.getByRole('button', { name: 'Silence' }).click();
  await expect(watch.getByRole('button', { name: 'Sound for alarms' })).toHaveAttribute('aria-pressed', 'true');
  const silenced = await notes();
  expect(silenced).toBeGreaterThan(0);
  await set('Weather/Humidity', false);
  await set('Weather/Humidity', true);
  await expect(watch.getByRole('button', { name: 'Silence' })).toBeVisible();
  await expect.poll(notes).toBeGreaterThan(silenced);
  await watch.getByRole('button', { name: /Humidity/ }).click();
  await expect(inspector()).toContainText('Humidity');
  await watch.getByRole('button', { name: 'Silence' }).click();
  await watch.getByRole('button', { name: 'Sound for alarms' }).click();
});
