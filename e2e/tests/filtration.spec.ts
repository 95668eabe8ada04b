// A server that is not ours: found, trusted both ways, logged in to, browsed, taken in by the hundred, restarted.

import { X509Certificate } from 'node:crypto';
import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { cable, type Filtration, PASSWORD, PLATES, start as startFiltration, USER } from '../filtration';
import { pair } from '../secured';
import { cards, enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let filtration: Filtration;
let wire: Awaited<ReturnType<typeof cable>>;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  filtration = await startFiltration(48_410);
  wire = await cable(48_410, 48_411);
  server = await start(['--speed', '4', '--past', '0', '--port', '8430']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  wire.cut();
  await wire.remove();
  await filtration.stop();
  expect(thrown).toEqual([]);
});

const press = (name: string | RegExp) => page.getByRole('button', { name, exact: typeof name === 'string' }).click();
const ladder = () => page.getByRole('list', { name: 'Test' });
const step = (name: string) => ladder().getByRole('listitem').filter({ hasText: name });

/** What is recorded of the turbidity. */
const recorded = () =>
  page.evaluate(async () => {
    const { items } = await (await fetch('/api/items/tag?text=Turbidity')).json();
    const day = 86_400_000;
    const body = {
      tags: items.filter((tag: { title: string }) => tag.title.endsWith('Clarifier/Turbidity')).map((tag: { id: string }) => tag.id),
      from: new Date(Date.now() - day).toISOString(),
      to: new Date(Date.now() + day).toISOString(),
      parts: 1000,
      held: false,
    };
    const headers = { 'content-type': 'application/json' };
    const answer = await fetch('/api/history/raw', { method: 'POST', headers, body: JSON.stringify(body) });
    return (await answer.json()).tags[0].value as (number | null)[];
  });

test('a server is found, trusted both ways and logged in to', async () => {
  await press('Add connection');
  await page.getByLabel('Kind').selectOption('opcua');
  await page.getByLabel('Name', { exact: true }).fill('Filtration');
  await page.getByLabel('Address', { exact: true }).fill(wire.url);
  await press('Test');
  await expect(step('Endpoints')).toContainText('signed, Basic256Sha256');
  await press('Use the best: signed and encrypted, Aes256_Sha256_RsaPss');
  await press('Test');
  await expect(step('Certificate')).toContainText('nobody has trusted it yet');
  await expect(step('Certificate')).toContainText(filtration.fingerprint());
  await press('Trust this certificate');
  await press('Test');
  await expect(step('Secure channel')).toContainText('Trust Havrel’s certificate at the server');
  const own = page.getByRole('region', { name: 'Havrel’s own certificate' });
  const [download] = await Promise.all([page.waitForEvent('download'), own.getByRole('link', { name: 'Download it' }).click()]);
  const chunks: Buffer[] = [];
  for await (const chunk of await download.createReadStream()) chunks.push(chunk as Buffer);
  const certificate = Buffer.concat(chunks);
  await expect(own).toContainText(new X509Certificate(certificate).fingerprint256);
  await accessibility(page);
  await filtration.trust(certificate);
  await page.getByLabel('Log in').selectOption('user');
  await page.getByLabel('User name').fill(USER);
  await page.getByLabel('Password').fill('guess');
  await press('Test');
  await expect(step('Secure channel')).toContainText('messages are signed and encrypted, Aes256_Sha256_RsaPss');
  await expect(step('Login')).toContainText('Check how Havrel logs in, its user name and its password.');
  await page.getByLabel('Password').fill(PASSWORD);
  await press('Test');
  await expect(ladder()).toContainText('All steps passed.');
  await press('Add this connection');
  await expect(page.getByRole('region', { name: 'Connection Filtration' })).toContainText('running', { timeout: 30_000 });
});

test('every policy of the server and a login by certificate are understood', async () => {
  const login = pair('shift engineer');
  await filtration.admit(new X509Certificate(login.certificate).raw);
  const tried = (settings: object) =>
    page.evaluate(
      async (set) => {
        const headers = { 'content-type': 'application/json' };
        const answer = await fetch('/api/connections/test', { method: 'POST', headers, body: JSON.stringify(set) });
        const last = JSON.parse((await answer.text()).trim().split('\n').at(-1) ?? '');
        return `${last.name} ${last.passed ? 'passed' : last.answer}`;
      },
      { name: 'x', kind: 'opcua', timeout_ms: 5000, settings: { url: filtration.url, ...settings } },
    );
  const fingerprint = filtration.fingerprint();
  for (const policy of ['aes256_sha256_rsa_pss', 'aes128_sha256_rsa_oaep', 'basic256_sha256']) {
    for (const mode of ['sign', 'encrypt']) expect(await tried({ security: `${policy}_${mode}`, fingerprint })).toBe('Value passed');
  }
  const certificate = { login: 'certificate', certificate: login.certificate, key: { secret: login.key } };
  const secured = { security: 'aes256_sha256_rsa_pss_encrypt', fingerprint };
  expect(await tried({ ...secured, ...certificate })).toBe('Value passed');
  const other = pair('nobody');
  expect(await tried({ ...secured, ...certificate, certificate: other.certificate, key: { secret: other.key } })).toContain('Login The server answered');
  expect(await tried({ login: 'user', user: USER, password: { secret: PASSWORD } })).toBe('Value passed');
});

test('two filters with all below become tags, and their values come', async () => {
  await press('Nodes and intake');
  await press('Choose all below Filter 1');
  await expect(page.getByRole('button', { name: `Add ${PLATES} rows` })).toBeEnabled();
  // What was chosen of one filter's plates is chosen of every plate that the server has.
  await press('Choose the same in every PlateType');
  await press(`Add ${PLATES * 2} rows`);
  const form = page.getByRole('form', { name: 'New tags' });
  await expect(form).toContainText('No errors.');
  await press(`Create ${PLATES * 2} tags`);
  await press(`Create ${PLATES * 2} tags and ${PLATES + 2} places`);
  // The page shows the place of the first of them.
  const plate = page.getByRole('region', { name: 'Plate 1', exact: true }).first();
  await expect(plate.getByRole('listitem').filter({ hasText: 'Temperature' })).toContainText('40.1');
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await expect(page.getByRole('button', { name: /^Filtration opc/ })).toContainText(`${PLATES * 2} tags`);
  await press(/^Filtration opc/);
});

test('an array, states and a value that moves come as the server says them', async () => {
  await press('Nodes and intake');
  await press('Choose all below Clarifier');
  await press('Add 3 rows');
  await page.getByRole('form', { name: 'New tags' }).getByLabel('Record all').check();
  await press('Create 3 tags');
  const clarifier = page.getByRole('region', { name: 'Clarifier' });
  await expect(clarifier.getByRole('listitem').filter({ hasText: 'Turbidity' })).toContainText('4.3');
  await expect(clarifier.getByRole('listitem').filter({ hasText: 'State' })).toContainText('settling');
  filtration.set(17.5);
  await expect(clarifier.getByRole('listitem').filter({ hasText: 'Turbidity' })).toContainText('17.5');
});

test('a structure is read, and a method with two arguments is called', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await press(/^Filtration opc/);
  await press('Settings and test');
  await page.getByLabel('Allow writing to the server').check();
  await press('Save connection');
  await press('Nodes and intake');
  const tree = page.getByRole('tree', { name: 'Nodes of the server' });
  await press('Open Server');
  // Only the rows that show are there.
  await tree.evaluate((box) => box.scrollTo(0, box.scrollHeight));
  // A structure in a structure, read after the definitions that the server gives of their types.
  await expect(tree.getByRole('treeitem', { name: 'ServerStatus' })).toContainText('"BuildInfo":{"ProductUri":"urn:brackmere:filtration"');
  // Its members are there as nodes too, and shown once.
  await press('Open ServerStatus');
  await tree.evaluate((box) => box.scrollTo(0, box.scrollHeight));
  await press('Open BuildInfo');
  await tree.evaluate((box) => box.scrollTo(0, box.scrollHeight));
  await tree.getByLabel('Choose ProductUri').check();
  await tree.evaluate((box) => box.scrollTo(0, 0));
  await press('Open Clarifier');
  await tree.getByLabel('Choose Wash').check();
  await press('Add 2 rows');
  const form = page.getByRole('form', { name: 'New tags' });
  await expect(form).toContainText('No errors.');
  await press('Create 2 tags');
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await cards(page);
  await page.getByRole('treeitem', { name: 'Clarifier' }).click();
  await page.getByRole('region', { name: 'Clarifier' }).getByRole('button', { name: 'Wash' }).click();
  await page.getByLabel('Minutes (UInt16)').fill('12');
  await page.getByLabel('Program (String)').fill('rinse');
  await press('Call…');
  await press('Call it');
  await expect(page.getByText('Called; the answer is rinse for 12 min.')).toBeVisible();
});

test('what the server recorded while the cable was cut fills the gap', async () => {
  const turbidity = page.getByRole('region', { name: 'Clarifier' }).getByRole('listitem').filter({ hasText: 'Turbidity' });
  wire.cut();
  await expect(page.getByRole('region', { name: 'Clarifier' })).toContainText('No data since', { timeout: 30_000 });
  // Each at a moment of its own, as the server tells them apart by their times.
  const lost = Date.now();
  for (const value of [11, 12, 13]) filtration.set(value, new Date(lost + value));
  wire.mend();
  await expect(turbidity).toContainText('13.0', { timeout: 60_000 });
  // What did not change meanwhile holds again too.
  await expect(page.getByRole('region', { name: 'Clarifier' })).not.toContainText('⨯');
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await press(/^Filtration opc/);
  await press('Health');
  await expect(page.getByText('of 1 tag that the server recorded')).toBeVisible({ timeout: 30_000 });
  const values = await recorded();
  // In their order, once each, after the mark that the connection was lost.
  const gap = values.slice(values.indexOf(null) + 1);
  expect(gap.filter((value) => value !== null)).toEqual([11, 12, 13]);
});

test('what the server recorded while the connection was off is brought in on request', async () => {
  await press('Settings and test');
  await page.getByLabel('Reading on').uncheck();
  await press('Save connection');
  await expect(page.getByRole('region', { name: 'Connection Filtration' })).toContainText('off', { timeout: 30_000 });
  const away = Date.now();
  for (const value of [31, 32, 33]) filtration.set(value, new Date(away + value));
  await page.getByLabel('Reading on').check();
  await press('Save connection');
  await expect(page.getByRole('region', { name: 'Connection Filtration' })).toContainText('running', { timeout: 30_000 });
  await press('Health');
  await press('Bring it in');
  await expect(page.getByText(/The period from .* is filled with \d+ values of 1 tag that the server recorded\./)).toBeVisible({ timeout: 30_000 });
  await expect.poll(async () => (await recorded()).filter((value) => [31, 32, 33].includes(value ?? 0))).toEqual([31, 32, 33]);
});

test('after a restart of the server values come again', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await cards(page);
  await page.getByRole('treeitem', { name: 'Clarifier' }).click();
  filtration.set(3.75);
  await filtration.restart();
  const turbidity = page.getByRole('region', { name: 'Clarifier' }).getByRole('listitem').filter({ hasText: 'Turbidity' });
  await expect(turbidity).toContainText('3.8', { timeout: 60_000 });
  filtration.set(22.5);
  await expect(turbidity).toContainText('22.5', { timeout: 30_000 });
});
