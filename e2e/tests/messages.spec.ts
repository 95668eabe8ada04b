// Messages and answers in the hands of an engineer: a broker tested, topics heard and opened, messages made into tags, a program asked
// over HTTP, and what goes wrong with them.

import { expect, type Page, test } from '@playwright/test';
import { connectAsync, type MqttClient } from 'mqtt';
import sparkplug from 'sparkplug-payload';
import { accessibility } from '../accessibility';
import { cards, enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
let port = '';
/** An independent client of the broker. */
let other: MqttClient;
const heard: [string, string][] = [];
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0', '--port', '8433']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await desk('Connect');
  const shown = await page.getByRole('button', { name: /^Utilities.*127\.0\.0\.1/ }).textContent();
  port = /127\.0\.0\.1:(\d{4})/.exec(shown ?? '')?.[1] ?? '';
  expect(port).not.toBe('');
  const login = { username: 'utilities', password: 'published-here', protocolVersion: 5 as const };
  other = await connectAsync(`mqtt://127.0.0.1:${port}`, login);
  other.on('message', (topic, message) => heard.push([topic, message.toString()]));
  await other.subscribeAsync('brackmere/utilities/boiler/set');
});

test.afterAll(async () => {
  await other.endAsync();
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

/** Opens a desk; of the board its cards. */
const desk = async (name: string) => {
  await page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
  if (name === 'Board') await cards(page);
};
const tree = () => page.getByRole('tree', { name: 'Topics heard' });
const topic = (name: string) => tree().getByRole('treeitem').filter({ hasText: new RegExp(`^${name}`) });
const inspector = () => page.getByRole('complementary', { name: 'Inspector' });
/** The row of a tag in the list of a connection. */
const card = (place: string, tag: string) => page.getByRole('region', { name: place, exact: true }).getByRole('listitem').filter({ hasText: tag });

async function utilities(part: string) {
  await desk('Connect');
  const line = page.getByRole('button', { name: /^Utilities/ });
  if ((await line.getAttribute('aria-expanded')) !== 'true') await line.click();
  await page.locator('main button[aria-pressed]').getByText(part, { exact: true }).click();
}

test('a login with too few rights is told by the message that does not come back', async () => {
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('mqtt');
  await page.getByLabel('Name', { exact: true }).fill('As a visitor');
  await page.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await page.getByLabel('Port', { exact: true }).fill(port);
  await page.getByLabel('User', { exact: true }).fill('visitor');
  await page.getByLabel('Password').fill('guess');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder).toContainText('The broker does not allow this login to connect.');
  await page.getByLabel('Password').fill('looks-only');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(ladder).toContainText('not tried: no topic is allowed for it');
  await ladder.getByRole('button', { name: 'Allow the topic havrel/test' }).click();
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(ladder).toContainText('The broker does not allow this login to publish on this topic.');
  await expect(ladder).toContainText('Give the login the right at the broker, or choose another login.');
  await accessibility(page);
  await page.getByRole('button', { name: 'Cancel' }).click();
});

test('topics appear as a tree, and a message opens into members', async () => {
  await page.getByRole('button', { name: /^Utilities/ }).click();
  await expect(topic('brackmere')).toBeVisible();
  await tree().focus();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowRight');
  await expect(topic('utilities')).toBeVisible();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowRight');
  await expect(topic('boiler')).toContainText(/JSON.* bytes every 1\.\d s, last \d s ago/);
  await expect(topic('outside')).toContainText(/-?\d+(\.\d)? ?number/);
  // A meter that is heard later appears by itself.
  await tree().getByRole('button', { name: 'Open meter', exact: true }).click();
  await expect(topic('M8')).toBeVisible();
  await other.publishAsync('brackmere/utilities/meter/M9/json', '{"power": 3.5}', { retain: true });
  await expect(topic('M9')).toBeVisible({ timeout: 15_000 });
  await accessibility(page);
  await page.getByLabel('Topics', { exact: true }).fill('brackmere/#/x');
  await page.getByRole('button', { name: 'Listen' }).click();
  await expect(page.getByText('+ stands for one level, # at the end for all that follow')).toBeVisible();
  await page.getByLabel('Topics', { exact: true }).fill('brackmere/utilities/meter/+/json');
  await page.getByRole('button', { name: 'Listen' }).click();
  await expect(topic('brackmere')).toBeVisible();
});

test('all members of two meters become tags with the time that the meters tell', async () => {
  for (const name of ['brackmere', 'utilities', 'meter']) await tree().getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await expect(tree().getByRole('treeitem', { name: /boiler/ })).toHaveCount(0);
  await page.getByLabel('Take from below a topic').selectOption('numbers');
  for (const meter of ['M5', 'M6']) await tree().getByRole('button', { name: `Choose all below ${meter}` }).click();
  await page.getByRole('button', { name: 'Add 12 rows' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  await expect(form).toContainText('No errors.');
  await form.getByLabel('Record all').check();
  await form.getByRole('button', { name: 'Create 12 tags' }).click();
  await expect(page.getByRole('listitem').filter({ hasText: /^power/ }).first()).toContainText(/\d+\.\d/);
  // What is a tag now is not offered again.
  await utilities('Topics and intake');
  for (const name of ['brackmere', 'utilities', 'meter']) await tree().getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await tree().getByRole('button', { name: 'Choose all below M5' }).click();
  await expect(page.getByText('Chose 0 values below M5; 6 more are tags already.')).toBeVisible();
});

test('a mapping makes tags of every meter, of one that is heard later too, and what it made is taken back', async () => {
  await tree().getByRole('button', { name: 'Open M7', exact: true }).click();
  await tree().getByRole('button', { name: 'Open json', exact: true }).click();
  for (const name of ['power', 'energy']) await tree().getByLabel(`Choose ${name}`).check();
  await page.getByRole('button', { name: 'Map every such topic…' }).click();
  const form = page.getByRole('form', { name: 'New mapping' });
  await expect(form.getByLabel('Topics, + for any one level')).toHaveValue('brackmere/utilities/meter/+/json');
  await form.getByRole('button', { name: 'Name them like that' }).click();
  await expect(form.getByLabel('Place of the tags')).toHaveValue('Brackmere Kelp Works / Utilities / Meter {4}');
  // What is typed stays while one looks elsewhere, and what is wrong is told at its field.
  await form.getByLabel('Unit of value 1').fill('kW');
  await form.getByLabel('Member of value 2').fill('energy');
  await desk('Board');
  await utilities('Mappings');
  await expect(form.getByLabel('Unit of value 1')).toHaveValue('kW');
  await form.getByRole('button', { name: 'Save mapping' }).click();
  await expect(form.getByRole('row').filter({ has: page.getByLabel('Member of value 2') })).toContainText('/');
  await form.getByLabel('Member of value 2').fill('/energy');
  const made = form.getByRole('region', { name: 'What it makes of what is heard now' });
  await expect(made.getByRole('row', { name: /M8\/json/ })).toContainText('Meter M8');
  await accessibility(page);
  await form.getByRole('button', { name: 'Save mapping' }).click();
  const arrivals = page.getByRole('region', { name: 'Arrivals' });
  const meter = (name: string) => arrivals.getByRole('row', { name: new RegExp(`/${name}/json`) });
  await expect(meter('M8')).toContainText('Brackmere Kelp Works / Utilities / Meter M8: Energy, Power');
  await expect(meter('M1')).toContainText('(there before)');
  const tell = (power: number) =>
    other.publishAsync('brackmere/utilities/meter/M11/json', JSON.stringify({ ts: Date.now(), power, energy: 7 }), { retain: true });
  await tell(41.5);
  await expect(meter('M11')).toContainText('Meter M11: Energy, Power');
  await meter('M11').getByRole('button', { name: 'Brackmere Kelp Works / Utilities / Meter M11' }).click();
  await expect(inspector()).toContainText('Energy');
  await accessibility(page);
  await meter('M11').getByRole('button', { name: 'Undo' }).click();
  await expect(meter('M11')).toContainText('2 tags taken away');
  await tell(42.5);
  await expect(page.getByRole('treeitem', { name: /^Meter M8/ })).toBeVisible();
  await expect(page.getByRole('treeitem', { name: /^Meter M11/ })).toHaveCount(0);
  await meter('M11').getByRole('button', { name: 'Make again' }).click();
  await expect(meter('M11')).toContainText('Meter M11: Energy, Power');
  await desk('Board');
  await page.getByRole('treeitem', { name: /^Meter M11/ }).click();
  await expect(card('Meter M11', 'Power')).toContainText('kW');
});

test('a message of Sparkplug opens into its metrics, and one of them becomes a tag', async () => {
  const timestamp = Date.now();
  const metrics = [
    { name: 'Inlet/pH', value: 7.5, type: 'Double' as const, timestamp },
    { name: 'Inlet/Pump', value: true, type: 'Boolean' as const, timestamp },
    { name: 'Hours', value: -2, type: 'Int8' as const, timestamp },
  ];
  const payload = sparkplug.get('spBv1.0')?.encodePayload({ timestamp, seq: 0, metrics });
  await other.publishAsync('spBv1.0/Works/NBIRTH/Station', Buffer.from(payload ?? []), { retain: true });
  await utilities('Topics and intake');
  await page.getByLabel('Topics', { exact: true }).fill('spBv1.0/#');
  await page.getByRole('button', { name: 'Listen' }).click();
  for (const name of ['spBv1.0', 'Works', 'NBIRTH']) await tree().getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await expect(topic('Station')).toContainText(/3 metrics ?Sparkplug/);
  for (const name of ['Station', 'Inlet']) await tree().getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await expect(topic('Hours')).toContainText(/-2 ?Int8/);
  await expect(topic('pH')).toContainText(/7\.5 ?Double/);
  await accessibility(page);
  await tree().getByLabel('Choose pH').check();
  await page.getByRole('button', { name: 'Add 1 row' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  await form.getByLabel('Place for all').fill('Brackmere Kelp Works / Effluent');
  await form.getByRole('button', { name: 'Create 1 tag' }).click();
  await expect(card('Effluent', 'pH')).toContainText('7.5');
});

test('a written value goes out as the message that the boiler expects, and comes back', async () => {
  await desk('Board');
  await page.getByRole('treeitem', { name: /^Boiler/ }).click();
  await page.getByRole('button', { name: 'Pressure setpoint' }).click();
  await inspector().getByLabel('New value, bar').fill('8.4');
  await inspector().getByRole('button', { name: 'Write…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write 8.4 bar' }).click();
  await expect.poll(() => heard).toEqual([['brackmere/utilities/boiler/set', '{"pressure": 8.4}']]);
  await expect(page.getByRole('region', { name: 'Boiler' })).toContainText('8.4');
});

test('chosen values leave on their topics, and wait while the broker is away', async () => {
  const login = { username: 'havrel', password: 'kelp-and-steam', protocolVersion: 5 as const };
  const reader = await connectAsync(`mqtt://127.0.0.1:${port}`, login);
  const arrived: { value: number; time: string; quality: string }[] = [];
  reader.on('message', (topic, message) => {
    if (topic === 'havrel/test/boiler/pressure-setpoint') arrived.push(JSON.parse(message.toString()));
  });
  await reader.subscribeAsync('havrel/test/#');
  await utilities('Publishing');
  await expect(page.getByRole('table', { name: 'Publications' })).toContainText('Vessels to the laboratory');
  await page.getByRole('button', { name: 'Add a publication' }).click();
  const form = page.getByRole('form', { name: 'New publication' });
  await form.getByLabel('Name', { exact: true }).fill('Boiler');
  await form.getByRole('combobox', { name: 'Add a place' }).fill('boiler');
  await page.getByRole('option', { name: /^Boiler/ }).click();
  await form.getByLabel('Only tags whose path').fill('setpoint');
  const next = page.getByRole('region', { name: 'Next messages' });
  await form.getByLabel('Topic', { exact: true }).fill('havrel/test/#');
  await expect(next).toContainText('A topic to publish on must not contain +, # or control characters.');
  await form.getByLabel('Topic', { exact: true }).fill('havrel/test/{3}/{name}');
  await expect(next).toContainText('1 tag on 1 topic');
  await expect(next).toContainText('havrel/test/boiler/pressure-setpoint');
  await expect(next).toContainText('"quality":"good"');
  await form.getByLabel('Message', { exact: true }).selectOption('all about a value');
  await expect(next).toContainText('"unit":"bar"');
  await form.getByLabel('Message', { exact: true }).selectOption('value with time and quality');
  await expect(next).not.toContainText('"unit"');
  await accessibility(page);
  await form.getByRole('button', { name: 'Save publication' }).click();
  const row = page.getByRole('table', { name: 'Publications' }).getByRole('row').filter({ hasText: 'Boiler' });
  await expect(row).toContainText('on change');
  await expect.poll(() => arrived.length).toBeGreaterThan(0);
  expect(arrived[0]).toMatchObject({ value: 8.4, quality: 'good', time: expect.stringMatching(/^2\d{3}-.*Z$/) });
  // A message by hand, and one that the account may not send.
  const hand = page.getByRole('form', { name: 'Send a message by hand' });
  await hand.getByLabel('On the topic').fill('brackmere/elsewhere');
  await hand.getByLabel('Payload').fill('42');
  await hand.getByRole('button', { name: 'Send message' }).click();
  await expect(hand).toContainText('does not allow this login to publish on this topic');
  await hand.getByLabel('On the topic').fill('havrel/test/hand');
  await hand.getByRole('button', { name: 'Send message' }).click();
  await expect(page.getByText('The broker has the message on havrel/test/hand.')).toBeVisible();
  // Another program writes a tag that was allowed for it, and sees what came of it.
  await row.getByRole('button', { name: 'Change Boiler' }).click();
  const change = page.getByRole('form', { name: 'Publication' });
  await change.getByRole('combobox', { name: 'Allow a tag' }).fill('pressure setpoint');
  await page.getByRole('option', { name: /^Pressure setpoint/ }).click();
  await expect(change.getByLabel('They write on the topic')).toHaveValue('havrel/test/{3}/{name}/set');
  await change.getByLabel('Member with the value').fill('/wanted');
  await expect(next).toContainText('havrel/test/boiler/pressure-setpoint/set');
  await accessibility(page);
  await change.getByRole('button', { name: 'Save publication' }).click();
  await expect(row).toContainText('on change');
  await expect(async () => {
    await reader.publishAsync('havrel/test/boiler/pressure-setpoint/set', '{"wanted": 7.9}', { qos: 1 });
    expect(arrived.at(-1)?.value).toBe(7.9);
  }).toPass({ intervals: [1000], timeout: 30_000 });
  await expect(page.getByText(/\d writes? by others/)).toBeVisible();
  await reader.publishAsync('havrel/test/boiler/pressure-setpoint/set', '{"wanted": 700}', { qos: 1 });
  await expect(page.getByRole('table', { name: 'Publications' })).toContainText('The value must be between 0 and 12 bar.');
  // While nothing reaches the broker messages wait on disk.
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('region', { name: 'Broker Utilities' }).getByRole('button', { name: 'Cut the cable' }).click();
  await utilities('Publishing');
  await expect(page.getByRole('status').filter({ hasText: /messages? waits?, the oldest for/ })).toBeVisible({
    timeout: 30_000,
  });
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'End all' }).click();
  await utilities('Publishing');
  await expect(page.getByText('Nothing waits: all messages have left.')).toBeVisible({ timeout: 60_000 });
  await row.getByRole('button', { name: 'Remove Boiler…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Remove publication' }).click();
  await expect(row).toHaveCount(0);
  await reader.endAsync();
});

test('half a message, a silent meter and a cut cable each have their own words', async () => {
  await utilities('Settings and test');
  await page.getByLabel('Silent too long after, s').fill('3');
  await page.getByRole('button', { name: 'Save connection' }).click();
  await page.getByRole('link', { name: 'Demo faults' }).click();
  const group = page.getByRole('region', { name: 'Broker Utilities' });
  await group.getByRole('button', { name: 'Meter M2 sends half messages' }).click();
  await group.getByRole('button', { name: 'Meter M3 sends nothing' }).click();
  await desk('Board');
  await page.getByRole('treeitem', { name: /^Utilities/ }).click();
  await expect(card('Meter M2', 'Power').getByLabel(/the message does not fit/)).toBeVisible({ timeout: 15_000 });
  await expect(card('Meter M3', 'Power').getByLabel(/silent for longer than allowed/)).toBeVisible({ timeout: 15_000 });
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'End all' }).click();
  await group.getByRole('button', { name: 'Cut the cable' }).click();
  await expect(page.getByRole('contentinfo')).toContainText('8 of 10 connections', { timeout: 30_000 });
  await page.getByRole('button', { name: 'End all' }).click();
  await expect(page.getByRole('contentinfo')).toContainText('10 of 10 connections', { timeout: 60_000 });
  await desk('Board');
  await expect(card('Meter M2', 'Power')).toContainText(/\d+\.\dkW/);
  await expect(card('Meter M3', 'Power').getByLabel(/silent|fit|connected/)).toHaveCount(0, { timeout: 15_000 });
});

test('a program is asked over HTTP with its token, and a member of its answer becomes a tag', async () => {
  await desk('Connect');
  const shown = await page.getByRole('button', { name: /^Weather and tariff/ }).textContent();
  const at = /127\.0\.0\.1:(\d{4})/.exec(shown ?? '')?.[1] ?? '';
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('http');
  await page.getByLabel('Name', { exact: true }).fill('Tariff by hand');
  await page.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await page.getByLabel('Port', { exact: true }).fill(at);
  await page.getByRole('button', { name: 'Request', exact: true }).click();
  await page.getByLabel('Path of request 1').fill('/tariff');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder).toContainText('The program answered 401: it wants to know who asks.');
  await page.getByLabel('Login', { exact: true }).selectOption('bearer');
  await page.getByLabel('Password, token or text of the header').fill('kelp-forecast');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(ladder).toContainText(/GET \/tariff ?200, application\/json, \d+ bytes, JSON with 5 members/);
  await accessibility(page);
  await page.getByRole('button', { name: 'Add this connection' }).click();
  const nodes = page.getByRole('tree', { name: 'Answers of the program' });
  await nodes.getByRole('button', { name: 'Open /tariff' }).click();
  await expect(nodes.getByRole('treeitem', { name: /price/ })).toContainText(/0\.\d+/);
  await nodes.getByLabel('Choose price').check();
  await page.getByRole('button', { name: 'Add 1 row' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  await form.getByLabel('Place for all').fill('Brackmere Kelp Works / Utilities / Tariff');
  await form.getByRole('button', { name: 'Create 1 tag' }).click();
  await expect(card('Tariff', 'price')).toContainText(/0\.\d/);
  await accessibility(page);
});

test('a program that takes no token, is not available or sends half an answer is told in its own words', async () => {
  const group = page.getByRole('region', { name: 'Weather and tariff' });
  const faults = [
    ['Take no token', 'The program answered 401: it wants to know who asks.'],
    ['Not available', 'The program answered 503: it is not available at present.'],
    ['Send half answers', 'the message does not fit'],
  ] as const;
  for (const [fault, words] of faults) {
    await page.getByRole('link', { name: 'Demo faults' }).click();
    await group.getByRole('button', { name: fault }).click();
    await desk('Board');
    await page.getByRole('treeitem', { name: /^Weather/ }).click();
    // What concerns all tags of a connection stands once above them.
    const told = page.getByRole('region', { name: 'Weather' });
    await expect(told.getByText(words).or(told.getByLabel(words)).first()).toBeVisible({ timeout: 15_000 });
    await page.getByRole('link', { name: 'Demo faults' }).click();
    await page.getByRole('button', { name: 'End all' }).click();
  }
  await desk('Board');
  await expect(card('Weather', 'Wind speed')).toContainText(/\d+\.\d ?m\/s/, { timeout: 15_000 });
});

test('a secured broker is trusted by its fingerprint, and told when its certificate has expired or it lets nobody in', async () => {
  await desk('Connect');
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('mqtt');
  await page.getByLabel('Name', { exact: true }).fill('Secured');
  await page.getByLabel('Transport').selectOption('tls');
  await page.getByLabel('Host', { exact: true }).fill('127.0.0.1');
  await page.getByLabel('Port', { exact: true }).fill(port);
  await page.getByLabel('User', { exact: true }).fill('visitor');
  await page.getByLabel('Password').fill('looks-only');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder).toContainText('no trusted authority has signed it. Its fingerprint is');
  await ladder.getByRole('button', { name: 'Trust this certificate' }).click();
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(ladder).toContainText('TLS 1.3');
  await page.getByRole('button', { name: 'Add this connection' }).click();
  const line = page.getByRole('button', { name: /^Secured/ });
  await expect(line).toContainText('running');
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page
    .getByRole('region', { name: 'Broker Utilities' })
    .getByRole('button', { name: 'Let the certificate expire' })
    .click();
  await desk('Connect');
  const told = page.getByRole('region', { name: 'Connection Secured' });
  await expect(told.getByText(/it is another one than the trusted one.*, and it has expired\./)).toBeVisible();
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('region', { name: 'Broker Utilities' }).getByRole('button', { name: 'Refuse every login' }).click();
  await desk('Connect');
  const others = page.getByRole('region', { name: 'Connection Utilities' });
  await expect(others.getByText('The broker does not allow this login to connect.')).toBeVisible({ timeout: 30_000 });
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'End all' }).click();
  await desk('Connect');
  await expect(line).toContainText('running', { timeout: 60_000 });
});
