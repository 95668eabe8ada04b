// Connecting at depth, against an independent Modbus server and client from a package of somebody else's.

import { type AddressInfo, createServer, type Server as NetServer, Socket } from 'node:net';
import { expect, type Page, test } from '@playwright/test';
import Modbus from 'jsmodbus';
import { fingerprint, pair, secure } from '../secured';
import { accessibility } from '../accessibility';
import { cards, enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

/** A device with forty vessels of fifty registers each: level in tenths, two floats, a counter, a status word. */
class Device {
  readonly registers = Buffer.alloc(2 * 2100);
  private net: NetServer | undefined;
  port = 0;

  constructor() {
    for (let vessel = 0; vessel < 40; vessel += 1) {
      const at = 100 * vessel;
      this.registers.writeUInt16BE(400 + vessel, at);
      // The low word first: 60.5 degrees and some more for each vessel.
      this.float(at + 4, 60.5 + vessel);
      this.registers.writeUInt16BE(0b1010, at + 10);
    }
  }

  float(at: number, value: number) {
    const bytes = Buffer.alloc(4);
    bytes.writeFloatBE(value);
    bytes.copy(this.registers, at, 2, 4);
    bytes.copy(this.registers, at + 2, 0, 2);
  }

  async start(port = 0) {
    this.net = createServer();
    new Modbus.server.TCP(this.net, { holding: this.registers, coils: Buffer.alloc(32), discrete: Buffer.alloc(32), input: Buffer.alloc(64) });
    await new Promise<void>((ready) => this.net?.listen(port, '127.0.0.1', ready));
    this.port = (this.net.address() as AddressInfo).port;
  }

  stop() {
    this.net?.close();
    (this.net as unknown as { closeAllConnections?: () => void })?.closeAllConnections?.();
    for (const socket of this.sockets) socket.destroy();
  }

  private readonly sockets = new Set<Socket>();
  keep() {
    this.net?.on('connection', (socket) => {
      this.sockets.add(socket);
      // Whoever asked may go away in the middle, as a program does that is ended.
      socket.on('error', () => socket.destroy());
    });
    return this;
  }
}

const first = new Device();
const second = new Device();

test.beforeAll(async ({ browser }) => {
  await first.start();
  await second.start();
  first.keep();
  second.keep();
  server = await start(['--speed', '4', '--past', '0', '--port', '8423']);
  page = await (await browser.newContext({ acceptDownloads: true })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await expect(page.getByRole('region', { name: 'EX-2' })).toBeVisible();
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  first.stop();
  second.stop();
  expect(thrown).toEqual([]);
});

const button = (name: string | RegExp) => page.getByRole('button', { name, exact: typeof name === 'string' });
const line = (name: string) => page.getByRole('region', { name: `Connection ${name}` });
const part = (name: string, what: string | RegExp) => line(name).getByRole('button', { name: what });

/** Goes to a part of a connection, from wherever we are. */
async function openPart(name: string, what: string) {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  const head = part(name, new RegExp(`^${name}`));
  if ((await head.getAttribute('aria-expanded')) !== 'true') await head.click();
  await part(name, what).click();
}

/** Chooses a place, wherever in the plant column it stands. */
async function choose(name: string) {
  await page.getByLabel('Find a place').fill(name);
  await page.getByRole('treeitem', { name: new RegExp(`^${name}(,|$)`) }).first().click();
  await page.getByLabel('Find a place').fill('');
}

test('a connection with a spare address is tested on both', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await button('Add connection').click();
  const form = page.getByRole('region', { name: 'New connection' });
  await form.getByLabel('Name').fill('Tank farm');
  await form.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await form.getByLabel('Port', { exact: true }).fill(String(first.port));
  await form.getByLabel('Manual counts from').selectOption('0');
  await form.getByLabel('Poll interval, ms').fill('300');
  await form.getByLabel('Timeout, ms').fill('500');
  await form.getByLabel('Allow writing to the device').check();
  await form.getByText('Requests, groups and spare addresses').click();
  await form.getByRole('button', { name: 'Spare address' }).click();
  await form.getByLabel('Host of spare 1').fill('127.0.0.1');
  await form.getByLabel('Port of spare 1').fill(String(second.port));
  await form.getByRole('button', { name: 'Group', exact: true }).click();
  await form.getByLabel('Group', { exact: true }).fill('Slow');
  await form.getByRole('button', { name: 'Test' }).click();
  await expect(form.getByRole('list', { name: 'Test' }).getByText('passed', { exact: true })).toHaveCount(8);
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await expect(line('Tank farm').getByText('running')).toBeVisible();
});

test('an unknown device is read by watching it', async () => {
  // Somewhere in there something moves: which registers, and what are they?
  let value = 20;
  const moving = setInterval(() => {
    value += 0.017;
    first.float(4, value);
  }, 400);
  await button('Scan').click();
  const scan = page.getByRole('region', { name: 'Scan' });
  await scan.getByLabel('to').fill('299');
  await scan.getByRole('button', { name: 'Find what answers' }).click();
  await expect(scan.getByRole('button', { name: '0–299' })).toBeVisible();
  await scan.getByRole('button', { name: '0–299' }).click();
  await page.getByLabel('Show as').selectOption('floats in every order');
  const row = page.getByRole('row', { name: /^holding 2 / });
  // Of the four orders only one moves like a temperature.
  await expect(row.getByRole('cell').nth(5)).toHaveText(/^2\d(\.\d+)?$/);
  await expect(row.getByRole('cell').nth(8)).toHaveText(/^([2-9]|\d\d)$/);
  const quiet = page.getByRole('row', { name: /^holding 0 / });
  await expect(quiet.getByRole('cell').nth(8)).toHaveText('');
  await page.getByLabel('Show as').selectOption('bits and text');
  await expect(page.getByRole('row', { name: /^holding 5 / })).toContainText('0000 0000 0000 1010');
  clearInterval(moving);
});

test('forty vessels come from one layout, one base and one stride', async () => {
  await button('Layouts').click();
  await button('New layout').click();
  await page.getByLabel('Name of the layout').fill('Tank');
  const members = [
    ['Level', 'u16', '0', '%', '0.1', ''],
    ['Temperature', 'f32', '2', '°C', '', 'CDAB'],
    ['Alarm', 'bool', '5', '', '', ''],
  ] as const;
  for (const [name, type, offset, unit, factor, order] of members) {
    await button('Member').click();
    await page.getByLabel('Name of the new member').fill(name);
    await page.getByLabel(`Type of ${name}`).selectOption(type);
    await page.getByLabel(`Offset of ${name}`).fill(offset);
    await page.getByLabel(`Unit of ${name}`).fill(unit);
    if (factor) await page.getByLabel(`Factor of ${name}`).fill(factor);
    if (order) await page.getByLabel(`Order of ${name}`).selectOption(order);
  }
  await page.getByLabel('Bit of Alarm').fill('3');
  // What a row has no room for: the level is a straight line between two points, with a range.
  await button('More of Level').click();
  const more = page.getByRole('region', { name: 'More of Level' });
  await expect(more.getByLabel('Raw high')).toHaveValue('1000');
  await more.getByLabel('reads high').fill('110');
  await more.getByLabel('reads low').fill('10');
  await more.getByLabel('Range from').fill('0');
  await more.getByLabel('to', { exact: true }).fill('120');
  await expect(page.getByLabel('Factor of Level')).toHaveValue('');
  await page.screenshot({ path: test.info().outputPath('layout.png') });
  await more.getByLabel('reads low').fill('0');
  await more.getByLabel('reads high').fill('100');
  await button('Create layout').click();
  await expect(page.getByRole('region', { name: 'Layouts' }).getByText('3 members', { exact: true })).toBeVisible();

  await openPart('Tank farm', 'Blocks and map');
  await button('Map a layout').click();
  const form = page.getByRole('form', { name: 'New block' });
  await form.getByLabel('Layout').selectOption('Tank');
  await form.getByLabel('Name').fill('Tanks');
  await form.getByLabel('How many').fill('40');
  await form.getByLabel('Stride').fill('1');
  await form.getByRole('button', { name: 'Show on the map' }).click();
  await expect(page.getByText(/overlaps?:/)).toBeVisible();
  await form.getByLabel('Stride').fill('50');
  await form.getByRole('button', { name: 'Show on the map' }).click();
  await expect(page.getByText(/overlaps?:/)).toHaveCount(0);
  await form.getByRole('button', { name: 'Add block' }).click();
  await expect(page.getByText('Tank at 0, 40 times, every 50').or(page.getByText(/Tank at holding 0, 40 times, every 50/))).toBeVisible();

  await button('Create tags').click();
  await button('Choose all 120 shown').click();
  await button('Add 120 rows').click();
  const intake = page.getByRole('form', { name: 'New tags' });
  await intake.getByLabel('Name of Tanks 1 Level').fill('Level');
  await page.keyboard.press('Enter');
  // What the pattern would fill is shown first.
  const pattern = intake.getByRole('region', { name: 'Pattern' });
  await expect(pattern).toContainText('(the member)');
  await expect(intake.getByLabel('Name of Tanks 2 Temperature')).toHaveValue('');
  await intake.getByRole('button', { name: 'Fill 119 rows' }).click();
  await expect(intake.getByLabel('Name of Tanks 2 Temperature')).toHaveValue('Temperature');
  await intake.getByLabel('Place of Tanks 1 Level').fill('Tank farm/TF-01');
  await page.keyboard.press('Enter');
  await expect(pattern).toContainText('“Tank farm/TF-” · the number in the instance, 2 digits; 41 new places');
  await intake.getByRole('button', { name: 'Fill 119 rows' }).click();
  await expect(intake.getByText('41 new places')).toBeVisible();
  await intake.getByLabel('Record all').check();
  await intake.getByRole('button', { name: 'Create 120 tags' }).click();
  await page.getByRole('button', { name: 'Create 120 tags and 41 places' }).click();
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('TF-01');
  await choose('TF-40');
  const card = page.getByRole('region', { name: 'TF-40' });
  await expect(card.getByText('43.9')).toBeVisible();
  await expect(card.getByText('99.5')).toBeVisible();
  await page.screenshot({ path: test.info().outputPath('tanks.png') });
});

test('a clash is resolved by changing the existing tag, or by skipping the row', async () => {
  await openPart('Tank farm', 'Registers');
  await page.getByLabel('Show as').selectOption('the usual');
  await page.getByLabel('From wire address').fill('50');
  await button('Choose holding 50').click();
  await button('Choose holding 51').click();
  const intake = page.getByRole('form', { name: 'New tags' });
  await intake.getByLabel('Place for all').fill('Tank farm / TF-01');
  await intake.getByLabel('Name of holding 50').fill('Level');
  await intake.getByLabel('Name of holding 51').fill('Alarm');
  await expect(intake.getByRole('group', { name: 'Rows' }).getByText('taken', { exact: true })).toHaveCount(2);
  await intake.getByRole('button', { name: 'change that tag' }).first().click();
  await intake.getByRole('button', { name: 'skip', exact: true }).click();
  await expect(intake.getByText('existing tag, undo')).toBeVisible();
  await intake.getByRole('button', { name: 'Create 0 tags' }).click();
  await expect(page.getByText('Created 0 tags, changed 1.')).toBeVisible();
  await choose('TF-01');
  // The raw count of the second tank: its own scaling does not come from the layout any more.
  await expect(page.getByRole('region', { name: 'TF-01' }).getByText('401')).toBeVisible();
});

test('a refused write says why, and one that is taken is read back', async () => {
  await page.getByRole('region', { name: 'TF-01' }).getByRole('button', { name: 'Temperature', exact: true }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await inspector.getByLabel('Values may be written').check();
  await inspector.getByRole('button', { name: 'Save settings' }).click();
  await inspector.getByLabel('New value, °C').fill('71.25');
  await page.keyboard.press('Enter');
  await page.getByRole('alertdialog').getByRole('button', { name: /^Write 71/ }).click();
  await expect(inspector.getByText(/the device now holds 71\.3? ?/)).toBeVisible();
  // On a slow machine the spare address may have taken over before.
  expect([first, second].map((device) => device.registers.readUInt16BE(6))).toContain(0x428e);
  await inspector.getByLabel('New value, °C').fill('1e60');
  await page.keyboard.press('Enter');
  await page.getByRole('alertdialog').getByRole('button', { name: /^Write/ }).click();
  await expect(inspector.getByText('Enter a number.')).toBeVisible();
  await inspector.getByRole('button', { name: 'Close inspector' }).click();
});

test('what passes can be watched, paused and saved', async () => {
  await openPart('Tank farm', 'Traffic');
  const log = page.getByRole('log', { name: 'Exchanges' });
  await expect(log.getByText(/^read holding \d+–\d+$/).first()).toBeVisible();
  await button('Pause the log').click();
  await log.getByRole('button', { name: /^read holding/ }).first().click();
  await expect(log.getByText(/^sent: [0-9a-f ]+$/)).toBeVisible();
  await page.getByLabel('Failed only').check();
  await expect(page.getByText('No match.')).toBeVisible();
  await page.getByLabel('Failed only').uncheck();
  const download = page.waitForEvent('download');
  await button(/^Save \d+ exchanges?$/).click();
  expect((await download).suggestedFilename()).toBe('traffic-Tank farm.ndjson');
});

test('tags of several connections are watched from their bytes up', async () => {
  await button('Watch list').click();
  const list = page.getByRole('region', { name: 'Watch list' });
  await list.getByLabel('Add a tag').fill('TF-02 temp');
  await list.getByRole('option', { name: /^Temperature .*TF-02/ }).click();
  await list.getByLabel('Add a tag').fill('ex-1 level');
  await list.getByRole('option', { name: /^Level .*EX-1/ }).first().click();
  const row = list.getByRole('row', { name: /TF-02/ });
  await expect(row).toContainText('00 00 42 76');
  await expect(row).toContainText('61.5');
  await expect(list.getByRole('row', { name: /EX-1/ })).toContainText(/[0-9a-f]{2} [0-9a-f]{2}/);
  await button('Watch list').click();
});

test('a spare address takes over by itself, and by hand', async () => {
  await openPart('Tank farm', 'Health');
  await expect(page.getByText(/in use since/)).toBeVisible();
  first.stop();
  await expect(line('Tank farm').getByText('· spare')).toBeVisible();
  await expect(line('Tank farm').getByText('running')).toBeVisible();
  await first.start(first.port);
  first.keep();
  await button('Use this address').click();
  await expect(line('Tank farm').getByText('· spare')).toHaveCount(0);
  await page.getByRole('navigation').getByRole('link', { name: 'Journal', exact: true }).click();
  await expect(page.getByText(/Tank farm is now reached over a spare address/)).toBeVisible();
});

test('a program pushes values, and memory keeps what people set', async ({ request }) => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  for (const [kind, name] of [['Pushed values', 'Gateway'], ['Memory', 'Recipes']] as const) {
    await button('Add connection').click();
    await page.getByLabel('Kind').selectOption(kind);
    await page.getByRole('region', { name: 'New connection' }).getByLabel('Name').fill(name);
    await button('Add this connection').click();
    await expect(line(name)).toBeVisible();
    await button('Add 1 row').click();
    const intake = page.getByRole('form', { name: 'New tags' });
    await intake.getByLabel('Place for all').fill('Office');
    await intake.getByLabel(/^Name of/).fill(kind === 'Memory' ? 'Batch size' : 'Steam flow');
    await intake.getByRole('button', { name: 'Create 1 tag' }).click();
    await expect(page.getByRole('heading', { level: 1 })).toHaveText('Office');
    await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  }
  await openPart('Gateway', 'Tokens');
  await page.getByLabel('Name', { exact: true }).fill('Boiler gateway');
  await button('Create token').click();
  const token = (await page.getByRole('status').getByText(/^hv_/).textContent()) ?? '';
  // The code that is ready names the token and the tag, in each language.
  const code = page.getByRole('region', { name: 'Ready code' });
  for (const language of ['Shell', 'Python', 'C#', 'Rust', 'Spreadsheet query (M)']) {
    await code.getByRole('button', { name: language }).click();
    await expect(code.locator('pre')).toContainText(`Bearer`);
    await expect(code.locator('pre')).toContainText(token);
    await expect(code.locator('pre')).toContainText('Office/Steam flow');
  }
  const headers = { authorization: `Bearer ${token}` };
  const answer = await request.post(`${server.url}/api/push`, { headers, data: [{ tag: 'Office/Steam flow', value: 4.25 }] });
  expect(await answer.json()).toMatchObject({ taken: 1, refused: 0 });
  await choose('Office');
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await cards(page);
  const card = page.getByRole('region', { name: 'Office' });
  await expect(card.getByText('4.3')).toBeVisible();
  await card.getByRole('button', { name: 'Batch size', exact: true }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await inspector.getByLabel(/^New value/).fill('1250');
  await page.keyboard.press('Enter');
  await page.getByRole('alertdialog').getByRole('button', { name: /^Write 1250/ }).click();
  await expect(card.getByText('1250.0')).toBeVisible();
  // Counters of 64 bits keep every digit, typed and pushed; a setting that cannot keep them says so.
  await inspector.getByLabel(/^New value/).fill('9007199254740995');
  await page.keyboard.press('Enter');
  await page.getByRole('alertdialog').getByRole('button', { name: /^Write 9007199254740995/ }).click();
  await expect(card.getByText('9007199254740995', { exact: true })).toBeVisible();
  const large = JSON.stringify([{ tag: 'Office/Steam flow', value: 0 }]).replace('0}', '18446744073709551615}');
  const taken = await request.post(`${server.url}/api/push`, {
    headers: { ...headers, 'content-type': 'application/json' },
    data: large,
  });
  expect(await taken.json()).toMatchObject({ taken: 1, refused: 0 });
  await expect(card.getByText('18446744073709551615', { exact: true })).toBeVisible();
  await inspector.getByLabel('Limit high', { exact: true }).fill('9007199254740993');
  await inspector.getByRole('button', { name: 'Save limits' }).click();
  await expect(inspector.getByText('9007199254740993 has more digits than a setting keeps.')).toBeVisible();
  await inspector.getByLabel('Limit high', { exact: true }).fill('');
  await inspector.getByRole('button', { name: 'Close inspector' }).click();
});

test('connections leave as a file and come back as one', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  const download = page.waitForEvent('download');
  await button('Export').click();
  const file = await (await download).path();
  await page.getByLabel('File of connections').setInputFiles(file);
  await expect(page.getByText('Nothing would change.')).toBeVisible();
});

test('a secured device is trusted by its fingerprint, and the key never comes back', async () => {
  const [own, client] = [pair('Dosing station'), pair('Havrel')];
  const device = await secure(own, client, second.port);
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await button('Add connection').click();
  const form = page.getByRole('region', { name: 'New connection' });
  await form.getByLabel('Name').fill('Dosing station');
  await form.getByLabel('Transport').selectOption('TCP, secured by TLS');
  await expect(form.getByLabel('Port', { exact: true })).toHaveValue('802');
  await form.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await form.getByLabel('Port', { exact: true }).fill(String(device.port));
  await form.getByLabel('Timeout, ms').fill('5000');
  await form.getByLabel('Our certificate', { exact: true }).fill(client.certificate);
  const key = { name: 'havrel.pem', mimeType: 'text/plain', buffer: Buffer.from(client.key) };
  const chooser = page.waitForEvent('filechooser');
  await form.getByRole('button', { name: 'Private key of our certificate: choose a file' }).click();
  await (await chooser).setFiles(key);
  await form.getByRole('button', { name: 'Test' }).click();
  const ladder = form.getByRole('list', { name: 'Test' });
  await expect(ladder.getByText(`Its fingerprint is ${fingerprint(own)}.`)).toBeVisible();
  await page.screenshot({ path: test.info().outputPath('untrusted.png') });
  await ladder.getByRole('button', { name: 'Trust this certificate' }).click();
  await expect(form.getByLabel('Or the fingerprint')).toHaveValue(fingerprint(own));
  await form.getByRole('button', { name: 'Test' }).click();
  await expect(ladder.getByText('All steps passed.')).toBeVisible();
  await expect(ladder.getByText(/^TLS 1\.[23], certificate/)).toBeVisible();
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await expect(line('Dosing station').getByText('running')).toBeVisible();
  // From now on the key is only known to be there; it is used all the same when the connection is changed.
  await page.reload();
  await openPart('Dosing station', 'Settings and test');
  await expect(line('Dosing station').getByText('Stored encrypted; it is never shown.')).toBeVisible();
  await page.screenshot({ path: test.info().outputPath('kept.png') });
  await line('Dosing station').getByLabel('Unit id').fill('7');
  await line('Dosing station').getByRole('button', { name: 'Test', exact: true }).click();
  await expect(line('Dosing station').getByText('All steps passed.')).toBeVisible();
  await line('Dosing station').getByRole('button', { name: 'Save connection' }).click();
  await expect(line('Dosing station').getByText('running')).toBeVisible();
  await openPart('Dosing station', 'Traffic');
  await expect(page.getByRole('log', { name: 'Exchanges' }).getByText(/^read holding/).first()).toBeVisible();
  const secret = client.key.split('\n')[1] ?? '';
  await page.getByRole('navigation').getByRole('link', { name: 'Journal', exact: true }).click();
  await expect(page.getByText('Added connection Dosing station').first()).toBeVisible();
  for (const path of ['/api/items/connection', '/api/revisions', '/api/connections/export', '/api/plant/file']) {
    const answer = await page.request.get(server.url + path);
    const text = await answer.text();
    expect(answer.ok() && text.includes('Dosing station') && !text.includes(secret), path).toBe(true);
  }
  device.close();
});

test('an independent client reads what Havrel reads', async () => {
  const socket = new Socket();
  const client = new Modbus.client.TCP(socket, 1);
  await new Promise<void>((ready) => socket.connect(server.controller, '127.0.0.1', ready));
  const { response } = await client.readHoldingRegisters(13, 1);
  const setpoint = response.body.valuesAsArray[0] ?? 0;
  socket.destroy();
  await choose('EX-1');
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await cards(page);
  await page.getByRole('region', { name: 'EX-1' }).getByRole('button', { name: 'Fill setpoint', exact: true }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await expect(inspector.getByText((setpoint / 10).toFixed(1), { exact: true }).first()).toBeVisible();
  await inspector.getByRole('button', { name: 'Close inspector' }).click();
});

for (const theme of ['light', 'dark'] as const) {
  test(`the parts of a connection are accessible, ${theme}`, async () => {
    // Two thousand buttons of the map take their time to be looked at.
    test.setTimeout(300_000);
    await page.emulateMedia({ colorScheme: theme });
    for (const name of ['Registers', 'Blocks and map', 'Intake', 'Health', 'Traffic', 'Settings and test']) {
      await openPart('Tank farm', name);
      await accessibility(page, theme);
    }
  });
}
