// A broker for a site that has none: added, given accounts, and told what it refused; independent clients connect to it.

import { readFile } from 'node:fs/promises';
import { expect, type Page, test } from '@playwright/test';
import { connectAsync, type MqttClient } from 'mqtt';
import { accessibility } from '../accessibility';
import { freePort } from '../port';
import { cards, enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
let port = 0;
let secured = 0;
let meter: MqttClient;
let password = '';
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0', '--port', '8437']);
  [port, secured] = [await freePort(), await freePort()];
  page = await (await browser.newContext({ acceptDownloads: true })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  meter?.end(true);
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

async function part(connection: string, name: string) {
  await desk('Connect');
  const line = page.getByRole('button', { name: new RegExp(`^${connection}`) });
  if ((await line.getAttribute('aria-expanded')) !== 'true') await line.click();
  await page.locator('main button[aria-pressed]').getByText(name, { exact: true }).click();
}

const at = (more: object) => ({ host: '127.0.0.1', port, protocol: 'mqtt' as const, reconnectPeriod: 0, ...more });

test('a broker is tried, added and runs', async () => {
  await desk('Connect');
  await page.getByRole('button', { name: 'Add connection' }).click();
  const form = page.getByRole('region', { name: 'New connection' });
  await form.getByLabel('Kind').selectOption({ label: 'Broker run by Havrel' });
  await form.getByLabel('Messages travel').selectOption({ label: 'In clear, and secured by TLS' });
  await form.getByLabel('Port', { exact: true }).fill('80');
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await expect(form.getByText('Enter a port from 1,024 to 65,535; smaller ones are for the system.')).toBeVisible();
  await form.getByLabel('Port', { exact: true }).fill(String(port));
  await form.getByLabel('Secured port', { exact: true }).fill(String(secured));
  await form.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(form.getByText('All steps passed.')).toBeVisible();
  await expect(form.getByText('mosquitto version 2')).toBeVisible();
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await part('Site broker', 'Accounts');
  await expect(page.getByText('There is no account yet.')).toBeVisible();
  const told = page.getByRole('region', { name: 'What to enter in a device' });
  await expect(told.getByRole('row', { name: `127.0.0.1 ${port} ${secured}` })).toBeVisible();
  await accessibility(page);
});

test('accounts are added at once, each with a password that is shown once', async () => {
  await page.getByRole('button', { name: 'Add accounts' }).click();
  const form = page.getByRole('form', { name: 'New accounts' });
  await form.getByLabel('Accounts, one on each line').fill('meter-1\nmeter-2');
  await form.getByLabel('Topics of right 1').fill('site/#/x');
  await form.getByRole('button', { name: 'Add 2 accounts' }).click();
  await expect(form.getByText('# at the end for all that follow').first()).toBeVisible();
  await form.getByLabel('Topics of right 1').fill('site/{account}/#');
  // What is typed waits while one looks elsewhere.
  await desk('Board');
  await part('Site broker', 'Accounts');
  await expect(form.getByLabel('Accounts, one on each line')).toHaveValue('meter-1\nmeter-2');
  await accessibility(page);
  await form.getByRole('button', { name: 'Add 2 accounts' }).click();
  const made = page.getByRole('status', { name: 'Passwords' });
  const waiting = page.waitForEvent('download');
  await made.getByRole('button', { name: 'CSV' }).click();
  const sheet = await readFile(await (await waiting).path(), 'utf8');
  const lines = sheet.split('\r\n').map((line) => line.split(','));
  expect(lines[0]).toEqual(['Host', 'Port', 'User', 'Password']);
  expect(lines[1]?.slice(0, 3)).toEqual(['127.0.0.1', String(port), 'meter-1']);
  password = lines[1]?.[3] ?? '';
  expect(password).toHaveLength(20);
  await made.getByRole('button', { name: 'Done' }).click();
  await expect(made).toBeHidden();
  await expect(row('meter-2')).toContainText('publishes site/meter-2/#');
  await page.getByLabel('Check a topic for all accounts').fill('site/meter-1/power');
  await expect(row('meter-1').getByRole('cell').nth(2)).toHaveText('publishes');
  await expect(row('meter-2').getByRole('cell').nth(2)).toHaveText('nothing');
});

test('a device connects with its account, also secured, and nobody without', async () => {
  meter = await connectAsync(at({ username: 'meter-1', password, clientId: 'power meter', protocolVersion: 5 }));
  await meter.publishAsync('site/meter-1/power', '{"power": 7.5}', { retain: true, qos: 1 });
  await expect(connectAsync(at({ username: 'meter-1', password: 'guessed', clientId: 'x' }))).rejects.toThrow('Not authorized');
  await expect(connectAsync(at({ clientId: 'x' }))).rejects.toThrow('Not authorized');
  const waiting = page.waitForEvent('download');
  await page.getByRole('button', { name: 'Certificate' }).click();
  const ca = await readFile(await (await waiting).path(), 'utf8');
  const login = { username: 'meter-1', password, clientId: 'secured' };
  const safe = await connectAsync(at({ ...login, protocol: 'mqtts', port: secured, ca, servername: 'localhost' }));
  safe.end(true);
});

test('an account with too few rights is told, and allowed what it lacks while it stays connected', async () => {
  await expect(meter.publishAsync('plant/meter-1/power', '8', { qos: 1 })).rejects.toThrow('Not authorized');
  await part('Site broker', 'Clients and refusals');
  const refused = row('May not publish');
  await expect(refused).toContainText('plant/meter-1/power');
  await expect(refused).toContainText('meter-1');
  await expect(refused).toContainText('power meter');
  await expect(row('Account or password not accepted')).toContainText('127.0.0.1');
  await expect(page.getByRole('region', { name: 'Clients' }).getByRole('row', { name: /meter-1 power meter/ })).toContainText(
    'MQTT 5',
  );
  await accessibility(page);
  await refused.getByRole('button', { name: 'Allow meter-1 plant/meter-1/power…' }).click();
  const form = page.getByRole('form', { name: 'Account meter-1' });
  await expect(form.getByLabel('Topics of right 2')).toHaveValue('plant/meter-1/power');
  await form.getByRole('button', { name: 'Save account' }).click();
  await expect(page.getByRole('status', { name: 'Passwords' })).toBeHidden();
  await expect(row('meter-1').first()).toContainText('publishes plant/meter-1/power');
  // The same session, which was never closed.
  await expect(async () => meter.publishAsync('plant/meter-1/power', '8', { qos: 1 })).toPass();
  expect(meter.connected).toBe(true);
});

test('Havrel hears the topics of its own broker', async () => {
  await page.getByRole('button', { name: 'Hear its topics with Havrel' }).click();
  await expect(page.getByRole('button', { name: /^Topics of Site broker/ })).toContainText('running');
  await expect(page.getByRole('tree', { name: 'Topics heard' }).getByText('site', { exact: true })).toBeVisible();
  await part('Site broker', 'Accounts');
  await expect(row('By which Havrel itself')).toContainText('receives $SYS/#');
});

test('an account that is removed is disconnected, and comes back by undo with its password', async () => {
  const gone = new Promise<void>((left) => meter.once('close', left));
  await page.getByRole('button', { name: 'Remove meter-1…' }).click();
  await page.getByRole('button', { name: 'Remove account' }).click();
  await gone;
  await expect(connectAsync(at({ username: 'meter-1', password, clientId: 'power meter' }))).rejects.toThrow('Not authorized');
  await desk('Journal');
  await page.getByRole('button', { name: /^Undo revision \d+$/ }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Undo' }).click();
  await part('Site broker', 'Accounts');
  await expect(row('meter-1').first()).toBeVisible();
  await expect(async () => {
    meter = await connectAsync(at({ username: 'meter-1', password, clientId: 'power meter' }));
  }).toPass();
});

test('a pause ends it, and it goes on with what was retained', async () => {
  await page.getByRole('button', { name: 'Pause', exact: true }).click();
  await expect(page.getByText('The broker is switched off. Resume starts it.')).toBeVisible();
  await expect(connectAsync(at({ username: 'meter-1', password }))).rejects.toThrow();
  await page.getByRole('button', { name: 'Resume', exact: true }).click();
  await expect(page.getByRole('region', { name: 'What to enter in a device' })).toBeVisible();
  await part('Site broker', 'Clients and refusals');
  await expect(page.getByText(/^Retained1 topic$/)).toBeVisible();
});
