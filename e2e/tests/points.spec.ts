// Points: proven by a loop check, bound from the model and from the source, followed from the wire to whoever uses them.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const inspector = () => page.getByRole('complementary', { name: 'Inspector' });
const check = () => inspector().getByRole('form', { name: 'Loop check' });
const sheet = () => page.getByRole('region', { name: 'Tags', exact: true });

/** Opens a tag of the sheet in the inspector, by words of its path. */
async function open(words: string, which = 'all') {
  await page.getByRole('link', { name: 'Model' }).click();
  await page.getByLabel('Which tags').selectOption(which);
  await page.getByLabel('Filter tags').fill(words);
  await expect(sheet().getByRole('heading', { name: '1 tag', exact: true })).toBeVisible();
  await page.getByRole('gridcell').first().click();
  await page.keyboard.press('Enter');
  await expect(inspector()).toBeVisible();
}

/** Takes the source away from tags of no class, so that they are to be bound. */
async function unbind(...paths: string[]) {
  const edits = [];
  let revision = 0;
  for (const text of paths) {
    const answer = await page.request.get(`${server.url}/api/items/tag`, { params: { text, limit: 1 } });
    const found = (await answer.json()) as { revision: number; items: { id: string }[] };
    revision = found.revision;
    edits.push({ op: 'patch', kind: 'tag', id: found.items[0]?.id, set: { connection: null, point: null } });
  }
  const headers = { Origin: server.url, 'If-Match': String(revision) };
  const done = await page.request.post(`${server.url}/api/edits`, { data: { why: 'Unbound', edits }, headers });
  expect(await done.text()).toContain('revision');
}

test('a point is proven while its source moves, step by step', async () => {
  await open('EX-1 temperature setpoint', 'unchecked');
  await inspector().getByRole('button', { name: 'Check loop…' }).click();
  // A setpoint stands still until somebody moves it.
  await expect(check().getByText('The value has not changed yet.')).toBeVisible();
  await expect(check().getByRole('button', { name: 'Save as proven' })).toBeDisabled();
  await inspector().getByLabel('New value, °C').fill('61.5');
  await inspector().getByRole('button', { name: 'Write…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write 61.5 °C' }).click();
  await expect(check().getByRole('row', { name: /^Value/ })).toContainText('61.5');
  await check().getByLabel('Applied at the source, °C').fill('61.4');
  await check().getByRole('button', { name: 'Note step' }).click();
  await expect(check().getByRole('row', { name: /^61\.4/ })).toHaveText(/61\.4.*61\.5.*\+0\.10.*0\.\d %/);
  // What is typed outlasts a look at another desk.
  await check().getByLabel('Remark').fill('by the display');
  await expect(check().getByText(/Moved over \d+\.\d % of its range\..*Bytes/)).toBeVisible();
  await accessibility(page);
  await check().getByRole('button', { name: 'Save as proven' }).click();
  await expect(inspector().getByText('Proven', { exact: true }).first()).toBeVisible();
  await expect(inspector().getByText('by the display')).toBeVisible();
  await page.getByLabel('Which tags').selectOption('proven');
  await page.getByLabel('Filter tags').fill('');
  await expect(sheet().getByRole('heading', { name: '1 tag', exact: true })).toBeVisible();
});

test('a check that fails says why, and a change of the way asks for a new one', async () => {
  await inspector().getByLabel('Unit', { exact: true }).fill('K');
  await inspector().getByRole('button', { name: 'Save settings' }).click();
  await expect(inspector().getByText('Changed since proven: unit')).toBeVisible();
  await open('EX-1 temperature setpoint', 'changed');
  await inspector().getByRole('button', { name: 'Check loop…' }).click();
  await check().getByRole('button', { name: 'Save as failed' }).click();
  await expect(check().getByText('Say what was wrong.')).toBeVisible();
  await check().getByLabel('Remark').fill('moves EX-2');
  await check().getByRole('button', { name: 'Save as failed' }).click();
  await expect(inspector().getByText('Check failed')).toBeVisible();
  await open('EX-1 temperature setpoint', 'failed');
});

test('a report lists the points that are not proven', async () => {
  await page.getByRole('link', { name: 'Reports' }).click();
  await page.getByRole('button', { name: /^New report/ }).click();
  const form = page.getByRole('form', { name: 'Report' });
  await form.getByRole('button', { name: '+ Loop checks' }).click();
  await form.getByRole('checkbox', { name: 'never checked' }).click();
  await form.getByRole('button', { name: 'Save report' }).click();
  const preview = page.frameLocator('iframe');
  await expect(preview.getByText(/\d+ points: \d+ never checked, 1 failed\./)).toBeVisible();
  await expect(preview.getByText('failed: moves EX-2')).toBeVisible();
});

test('a source is found by words over every connection', async () => {
  await unbind('Weather/Air temperature');
  await open('Weather Air temperature', 'unbound');
  await inspector().getByRole('button', { name: 'Find its source…' }).click();
  const finder = inspector().getByRole('region', { name: 'Find its source' });
  await finder.getByLabel('Words of what the device calls it').fill('air temp');
  await finder.getByLabel('Words of what the device calls it').press('Enter');
  await expect(finder.getByText(/values? found/)).toBeVisible({ timeout: 30_000 });
  await accessibility(page);
  await finder.getByRole('button').filter({ hasText: 'Weather and tariff' }).first().click();
  await inspector().getByRole('button', { name: 'Save settings' }).click();
  await page.getByLabel('Which tags').selectOption('all');
  await expect(page.getByRole('gridcell', { name: /Weather and tariff · .*air\/temperature/ }).first()).toBeVisible();
});

test('what a device offers is matched onto tags without a source, and bound in one step', async () => {
  await unbind('Weather/Humidity', 'Weather/Air pressure', 'Weather/Wind speed');
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  const weather = page.getByRole('region', { name: 'Connection Weather and tariff' });
  await weather.getByRole('button', { name: /Weather and tariff/ }).first().click();
  await weather.getByRole('button', { name: 'Match to tags', exact: true }).click();
  await weather.getByRole('button', { name: 'Match to tags without a source' }).click();
  await expect(weather.getByText(/free values? at Weather and tariff, 3 tags without a source: 3 matches\./)).toBeVisible({
    timeout: 30_000,
  });
  const rows = weather.getByRole('group', { name: 'Matches' }).getByRole('group', { name: /./ });
  await expect(rows.filter({ hasText: 'same name' })).toHaveCount(3);
  await accessibility(page);
  // One of them is left out by hand.
  await rows.first().getByRole('button', { name: /^Clear/ }).click();
  await expect(rows.first()).toContainText('Left out.');
  await weather.getByRole('button', { name: 'Bind 2 tags' }).click();
  await expect(page.getByText('Bound 2 tags.')).toBeVisible();
  await page.getByRole('link', { name: 'Model' }).click();
  await page.getByLabel('Which tags').selectOption('unbound');
  await page.getByLabel('Filter tags').fill('');
  await expect(sheet().getByRole('heading', { name: '1 tag', exact: true })).toBeVisible();
});

test('what a class binds is unbound on one piece of its equipment, and put back', async () => {
  await open('Wash tank 1 turbidity');
  await inspector().getByRole('button', { name: 'Clear Connection' }).click();
  await inspector().getByRole('button', { name: 'Save settings' }).click();
  await expect(inspector().getByText('connection and point are overrides')).toBeVisible();
  await open('Wash tank 1 turbidity', 'unbound');
  await inspector().getByRole('button', { name: 'Put back connection and point' }).click();
  await expect(inspector().getByText(/overrides?$/)).toHaveCount(0);
  await expect(sheet().getByRole('heading', { name: '0 tags', exact: true })).toBeVisible();
  await page.getByLabel('Which tags').selectOption('all');
  await expect(page.getByRole('gridcell', { name: /^Wash · / }).first()).toBeVisible();
});

test('a value is followed, and the first broken joint is named when its cable is cut', async () => {
  await open('Wash tank 1 turbidity');
  await inspector().getByRole('button', { name: 'Follow', exact: true }).click();
  const from = page.getByRole('region', { name: 'Where it comes from' });
  await expect(page.getByText('Every joint is good.')).toBeVisible();
  await expect(from.getByRole('listitem').filter({ hasText: 'Point' })).toContainText(/bytes [0-9a-f]{2} [0-9a-f]{2}/);
  await expect(page.getByRole('region', { name: 'Where it goes' }).getByRole('listitem').first()).toContainText('Recorded');
  await accessibility(page);
  await fault('', { fault: 'cut', controller: 'wash', seconds: 300 });
  await expect(page.getByText(/First broken joint: Connection Wash/)).toBeVisible({ timeout: 15_000 });
  await expect(from.getByText('not reached').first()).toBeVisible();
  await accessibility(page);
  await fault('/clear', {});
  await expect(page.getByText('Every joint is good.')).toBeVisible({ timeout: 30_000 });
});

async function fault(path: string, data: object) {
  const done = await page.request.post(`${server.url}/api/demo/faults${path}`, { data, headers: { Origin: server.url } });
  expect(done.ok()).toBe(true);
}

test('a place says where on the earth it lies', async () => {
  await page.getByRole('treeitem', { name: 'Landing', exact: true }).click();
  await page.getByRole('link', { name: 'Model' }).click();
  await page.locator('main button[aria-pressed]').getByText('Place', { exact: true }).click();
  const place = page.getByRole('form', { name: 'Place' });
  await place.getByLabel('Latitude, ° north').fill('59.9');
  await place.getByRole('button', { name: 'Save place' }).click();
  await expect(place.getByText('Enter both latitude and longitude, or neither.')).toBeVisible();
  await place.getByLabel('Longitude, ° east').fill('10.75');
  await place.getByRole('button', { name: 'Save place' }).click();
  await expect(place.getByRole('link', { name: 'Open in a map' })).toHaveAttribute('href', 'geo:59.9,10.75');
});
