// Edge nodes in the hands of an engineer: what announces itself becomes tags, dies, is born again and brings what it kept; an
// independent edge node beside the demo's own.

import { expect, type Page, test } from '@playwright/test';
import { connectAsync } from 'mqtt';
import sparkplug from 'sparkplug-client';
import payloads from 'sparkplug-payload';
import { accessibility } from '../accessibility';
import { cards, enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

type Client = ReturnType<typeof sparkplug.newClient>;

let server: Server;
let page: Page;
let port = '';
/** An independent edge node. */
let node: Client;
/** How often it was asked for its birth. */
let asked = 0;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0', '--port', '8436']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await desk('Connect');
  const shown = await page.getByRole('button', { name: /^Effluent.*127\.0\.0\.1/ }).textContent();
  port = /127\.0\.0\.1:(\d{4})/.exec(shown ?? '')?.[1] ?? '';
  expect(port).not.toBe('');
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

/** Opens a desk; of the board its cards. */
const desk = async (name: string) => {
  await page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
  if (name === 'Board') await cards(page);
};
const row = (name: string) => page.getByRole('row').filter({ hasText: name });
/** The row of a tag on the board. */
const card = (place: string, tag: string) =>
  page.getByRole('region', { name: place, exact: true }).getByRole('listitem').filter({ hasText: tag });
/** A cell of an edge node or device, by its column. */
const cell = (name: string, column: number) => row(name).getByRole('cell').nth(column);
const CAME_LATE = 4;
const LOST = 6;

async function effluent(part: string) {
  await desk('Connect');
  const line = page.getByRole('button', { name: /^Effluent/ });
  if ((await line.getAttribute('aria-expanded')) !== 'true') await line.click();
  await page.locator('main button[aria-pressed]').getByText(part, { exact: true }).click();
}

async function fault(name: string) {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('region', { name: 'Effluent station' }).getByRole('button', { name }).click();
}

async function endFaults() {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'End all' }).click();
}

const sample = (name: string, value: number, more: object = {}) => ({
  name,
  value,
  type: 'Double' as const,
  timestamp: Date.now(),
  ...more,
});

const text = (value: string) => ({ value, type: 'String' as const });
const number = (value: number) => ({ value, type: 'Double' as const });

/** What the independent edge node announces. */
function births() {
  const timestamp = Date.now();
  node.publishNodeBirth({
    timestamp,
    metrics: [{ name: 'Node Control/Rebirth', value: false, type: 'Boolean', timestamp }, sample('Supply', 24.1)],
  });
  const level = sample('Level', 61.5, { properties: { unit: text('%'), low: number(0), high: number(100) } });
  node.publishDeviceBirth('Tank', { timestamp, metrics: [level, sample('Agitator/Speed', 82)] });
}

test('a connection is made with what its test tells', async () => {
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('sparkplug');
  await page.getByLabel('Name', { exact: true }).fill('Another host');
  await page.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await page.getByLabel('Port', { exact: true }).fill(port);
  await page.getByLabel('User', { exact: true }).fill('havrel');
  await page.getByLabel('Password').fill('kelp-and-steam');
  await page.getByLabel('Timeout, ms').fill('4000');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder).toContainText('granted, quality of service 1');
  await expect(ladder).toContainText('Brackmere/Effluent station');
  await accessibility(page);
  await page.getByRole('button', { name: 'Cancel' }).click();
});

test('a device that waits is taken in beside its siblings', async () => {
  await page.getByRole('button', { name: /^Effluent/ }).click();
  await expect(row('Effluent station')).toContainText(/online *for/);
  await expect(row('Effluent station')).toContainText(/\d+ messages/);
  await expect(page.getByRole('status').filter({ hasText: '1 edge node, 3 devices; 1 device with metrics that are no tags yet' })).toBeVisible();
  await accessibility(page);
  await page.getByRole('button', { name: 'Take in Brackmere / Effluent station / Basin' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  await expect(form).toContainText('2 new tags');
  await expect(form).toContainText('1 new place');
  await form.getByLabel('Record all').check();
  await form.getByRole('button', { name: 'Create 2 tags' }).click();
  await expect(card('Basin', 'Level')).toContainText(/\d\.\d+ ?m/);
  await effluent('Edge nodes');
  await expect(row('Basin')).toContainText('2, 2 tags');
});

test('structures open into members, and what was taken is named', async () => {
  await effluent('Metrics and intake');
  const tree = page.getByRole('tree', { name: 'Edge nodes and their metrics' });
  for (const name of ['Brackmere', 'Effluent station', 'Pump 1', 'Drive']) {
    await tree.getByRole('button', { name: `Open ${name}`, exact: true }).click();
  }
  await expect(tree.getByRole('treeitem', { name: /^Speed choose/ }).or(tree.getByRole('treeitem').filter({ hasText: /^Speed\d/ }))).toContainText(
    /1\/min ?Double/,
  );
  await expect(tree.getByRole('treeitem').filter({ hasText: /^Speed setpoint/ })).toContainText('is Brackmere Kelp Works / Effluent / Pump 1');
  await accessibility(page);
});

test('a value that is written goes out as a command, and counts when the pump tells it', async () => {
  await desk('Board');
  await page.getByRole('treeitem', { name: /^Pump 1/ }).click();
  await page.getByRole('button', { name: 'Speed setpoint' }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await inspector.getByLabel('New value, 1/min').fill('1200');
  await inspector.getByRole('button', { name: 'Write…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write 1200 1/min' }).click();
  await expect(page.getByRole('region', { name: 'Pump 1', exact: true })).toContainText(/Speed setpoint\s*1200/);
  await expect(page.getByText(/does not tell a value back/)).toHaveCount(0);
});

test('a mapping makes tags of a device that is born later', async () => {
  await effluent('Mappings');
  await page.getByRole('button', { name: 'Add a mapping' }).click();
  const form = page.getByRole('form', { name: 'New mapping' });
  await form.getByLabel('Group / edge node / device').fill('Works/+/+/x/y');
  await form.getByLabel('Place of the tags').fill('Brackmere Kelp Works / Effluent / {2} / {3}');
  await form.getByRole('button', { name: 'Save mapping' }).click();
  await expect(form).toContainText('Enter group, edge node and device such as Works/+/Pump 1');
  await form.getByLabel('Group / edge node / device').fill('Works/#');
  await form.getByLabel('Metrics, divided by commas').fill('Level, Agitator/#');
  await expect(form).toContainText('Nothing of these names announced itself yet');
  await accessibility(page);
  await form.getByRole('button', { name: 'Save mapping' }).click();
  await expect(page.getByRole('list', { name: 'Mappings' })).toContainText('Level, Agitator/#');
  const login = { username: 'utilities', password: 'published-here', publishDeath: true };
  const who = { groupId: 'Works', edgeNode: 'RS-7', clientId: 'rs-7', version: 'spBv1.0' };
  node = sparkplug.newClient({ serverUrl: `mqtt://127.0.0.1:${port}`, ...login, ...who });
  node.on('birth', births);
  node.on('ncmd', () => {
    asked += 1;
    births();
  });
  const arrivals = page.getByRole('region', { name: 'Arrivals' });
  await expect(arrivals.getByRole('row', { name: /Works\/RS-7\/Tank/ })).toContainText('Level', { timeout: 30_000 });
  await expect(arrivals.getByRole('row', { name: /Works\/RS-7 / })).toContainText('It announces none of these metrics.');
  await accessibility(page);
  await desk('Board');
  await page.getByRole('treeitem', { name: /^RS-7/ }).click();
  await expect(card('Tank', 'Level')).toContainText(/61\.5 ?%/);
  await expect(card('Agitator', 'Speed')).toContainText('82');
});

test('a message that is missing leads to a new birth, and what was kept goes to history with its own times', async () => {
  const before = asked;
  const sequence = node as unknown as { seq: number };
  sequence.seq += 2;
  node.publishDeviceData('Tank', { timestamp: Date.now(), metrics: [sample('Level', 62.25)] });
  await expect.poll(() => asked).toBeGreaterThan(before);
  await expect(card('Tank', 'Level')).toContainText('61.5');
  const now = Date.now();
  const past = [5, 4, 3].map((minutes) => sample('Level', 40 + minutes, { timestamp: now - minutes * 60_000, isHistorical: true }));
  node.publishDeviceData('Tank', { timestamp: now, metrics: past });
  await effluent('Edge nodes');
  await expect(cell('Tank', CAME_LATE)).toHaveText('3');
  await expect(cell('RS-7', LOST)).toHaveText('2');
  await desk('Board');
  await expect(card('Tank', 'Level')).toContainText('61.5');
  const found = (await (await page.request.get(`${server.url}/api/find?text=Tank/Level`)).json()).found[0].id as string;
  const data = { tags: [found], from: new Date(now - 6 * 60_000).toISOString(), to: new Date(now - 2 * 60_000).toISOString() };
  const raw = async () => (await page.request.post(`${server.url}/api/history/raw`, { headers: { origin: server.url }, data })).text();
  await expect.poll(raw, { timeout: 30_000 }).toMatch(/45(\.0)?,44(\.0)?,43(\.0)?/);
});

test('a device that goes is bad at once, and comes back', async () => {
  node.publishDeviceDeath('Tank', { timestamp: Date.now() });
  await expect(card('Tank', 'Level').getByLabel(/its edge node or device is offline/)).toBeVisible();
  births();
  await expect(card('Tank', 'Level').getByLabel(/offline/)).toHaveCount(0);
  node.stop();
  await expect(card('Agitator', 'Speed').getByLabel(/its edge node or device is offline/)).toBeVisible();
  await effluent('Edge nodes');
  await expect(row('RS-7')).toContainText(/offline *for/);
});

test('while its cable is cut the station keeps what it measures, and brings it afterwards', async () => {
  const late = async () => Number((await cell('Outlet', CAME_LATE).textContent())?.replace(/\D/g, '') || '0');
  const before = await late();
  await fault('Cut its cable');
  await desk('Board');
  await page.getByRole('treeitem', { name: /^Outlet/ }).click();
  await expect(card('Outlet', 'pH').getByLabel(/its edge node or device is offline/)).toBeVisible({ timeout: 30_000 });
  await effluent('Edge nodes');
  await expect(row('Effluent station')).toContainText(/offline *for [5-9] s/, { timeout: 30_000 });
  await endFaults();
  await effluent('Edge nodes');
  await expect(row('Effluent station')).toContainText(/online *for/, { timeout: 30_000 });
  await expect.poll(late, { timeout: 30_000 }).toBeGreaterThan(before);
  await desk('Board');
  await expect(card('Outlet', 'pH').getByLabel(/offline/)).toHaveCount(0);
});

test('lost messages, a missing birth and two stations of one name are told', async () => {
  await fault('Lose messages');
  await effluent('Edge nodes');
  await expect(cell('Effluent station', LOST)).toHaveText(/[1-9]/, { timeout: 30_000 });
  await endFaults();
  await fault('Announce no devices');
  await effluent('Edge nodes');
  await expect(page.getByText(/messages or values came without a birth that explains them/)).toBeVisible({ timeout: 60_000 });
  await expect(row('Outlet')).toContainText(/offline *for/, { timeout: 30_000 });
  await endFaults();
  await effluent('Edge nodes');
  await expect(row('Outlet')).toContainText(/online *for/, { timeout: 90_000 });
  await fault('Another one of its name');
  await effluent('Edge nodes');
  await expect(page.getByText(/Two edge nodes seem to have this group and name/)).toBeVisible({ timeout: 90_000 });
  await accessibility(page);
  await endFaults();
});

test('tags leave as metrics of devices, and wait while the primary host is away', async () => {
  // What an independent reader understands of it: topic and metrics.
  const login = { username: 'havrel', password: 'kelp-and-steam', protocolVersion: 5 as const };
  const reader = await connectAsync(`mqtt://127.0.0.1:${port}`, login);
  const births: string[] = [];
  let past = 0;
  let present = 0;
  reader.on('message', (topic, message) => {
    const [, , what] = topic.split('/');
    const metrics = payloads.get('spBv1.0')?.decodePayload(message).metrics ?? [];
    if (what === 'DBIRTH') births.push(`${topic.split('/').at(-1)}: ${metrics.map(({ name, type }) => `${name} ${type}`).join(', ')}`);
    if (what === 'DDATA') past += metrics.filter(({ isHistorical }) => isHistorical).length;
    if (what === 'DDATA') present += metrics.filter(({ isHistorical }) => !isHistorical).length;
  });
  await reader.subscribeAsync(['spBv1.0/Plant/DBIRTH/#', 'spBv1.0/Plant/DDATA/#']);
  await desk('Connect');
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('sparkplug_node');
  await page.getByLabel('Name', { exact: true }).fill('To the office');
  await page.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await page.getByLabel('Port', { exact: true }).fill(port);
  await page.getByLabel('User', { exact: true }).fill('utilities');
  await page.getByLabel('Password').fill('published-here');
  await page.getByLabel('Group', { exact: true }).fill('Plant');
  await page.getByLabel('Edge node', { exact: true }).fill('Havrel');
  await page.getByLabel('Primary host').fill('havrel');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(page.getByRole('list', { name: 'Test' })).toContainText('it is there');
  await accessibility(page);
  await page.getByRole('button', { name: 'Add this connection' }).click();
  await page.getByRole('button', { name: 'Add a publication' }).click();
  const form = page.getByRole('form', { name: 'New publication' });
  await form.getByLabel('Name', { exact: true }).fill('Vessels');
  await form.getByRole('combobox', { name: 'Add a place' }).fill('extraction');
  await page.getByRole('option', { name: /^Extraction/ }).click();
  await form.getByLabel('Only tags whose path').fill('EX-1 temperature');
  await expect(page.getByRole('region', { name: 'Metrics now' })).toContainText(/tags? as \d metrics?/);
  await expect(page.getByRole('region', { name: 'Metrics now' })).toContainText('EX-1/Temperature');
  await accessibility(page);
  await form.getByRole('button', { name: 'Save publication' }).click();
  await expect.poll(() => births.some((one) => /^EX-1: .*Temperature (Double|Float)/.test(one)), { timeout: 30_000 }).toBe(true);
  await expect.poll(() => present).toBeGreaterThan(0);
  await effluent('Edge nodes');
  await expect(row('Plant / Havrel')).toContainText(/online *for/);
  await expect(row('EX-1')).toContainText(/online *for/);
  // The host goes: what changes meanwhile waits, and arrives later as what it is.
  await page.getByRole('button', { name: 'Pause', exact: true }).click();
  await page.getByRole('button', { name: /^To the office/ }).click();
  const part = (name: string) => page.locator('main button[aria-pressed]').getByText(name, { exact: true });
  await part('Health').click();
  await expect(page.getByText('The primary host havrel is not there; what is to be sent waits on disk.')).toBeVisible();
  await part('Publishing').click();
  await expect(page.getByRole('status').filter({ hasText: /[2-9] messages wait/ })).toBeVisible({ timeout: 30_000 });
  const before = past;
  await page.getByRole('button', { name: /^Effluent/ }).click();
  await page.getByRole('button', { name: 'Resume', exact: true }).click();
  await expect.poll(() => past, { timeout: 30_000 }).toBeGreaterThan(before);
  await page.getByRole('button', { name: /^To the office/ }).click();
  await part('Publishing').click();
  await expect(page.getByText('Nothing waits: all messages have left.')).toBeVisible({ timeout: 30_000 });
  await reader.endAsync();
});
