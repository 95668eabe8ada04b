// Alarm rules: added to many tags, made with a formula, tried on made-up values, run against history, suppressed by design.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '1', '--past', '2']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.goto(`${server.url}/alarms?part=rules`);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const sheet = () => page.getByRole('grid', { name: 'Alarm rules' });
const heading = (words: RegExp) => page.getByRole('heading', { name: words });
const rule = () => page.getByRole('region', { name: /^(New alarm|Alarm) rule$/ });
const proof = () => rule().getByRole('region', { name: 'Proof' });
const unsaved = () => page.getByRole('region', { name: 'Not saved yet' });

/** Opens the first rule that these words find. */
async function open(words: string, cell: RegExp) {
  await page.getByLabel('Filter alarm rules').fill(words);
  await sheet().getByRole('gridcell', { name: cell }).first().click();
  await page.keyboard.press('Enter');
  await expect(rule()).toBeVisible();
}

/** Types a formula into one of the fields of the open rule. */
async function formula(label: string, text: string) {
  await rule().getByRole('textbox', { name: label }).click();
  await page.keyboard.press('Control+a');
  await page.keyboard.insertText(text);
}

test('a hundred rules are added from a filter as one revision, and taken back', async () => {
  await expect(heading(/^84 alarm rules$/)).toBeVisible();
  await accessibility(page);
  await page.getByRole('button', { name: 'Add to many' }).click();
  const many = page.getByRole('region', { name: 'Add alarm rules to many tags' });
  await many.getByLabel('On-delay, s').first().fill('20');
  await accessibility(page);
  // A set is kept with the tags that it is for, and taken up again.
  const words = many.getByLabel('Tags of the whole plant, with the words');
  await words.fill('extraction');
  await many.getByRole('button', { name: 'Kept rules' }).click();
  await page.getByLabel('Save these rules, with the tags that they are for, as').fill('Limits of the vessels');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('list', { name: 'Saved views' })).toContainText('Limits of the vessels');
  await page.keyboard.press('Escape');
  await words.fill('');
  await many.getByRole('button', { name: 'Kept rules' }).click();
  await page.getByRole('button', { name: /^Limits of the vessels/ }).click();
  await expect(words).toHaveValue('extraction');
  await expect(many.getByLabel('On-delay, s').first()).toHaveValue('20');
  await words.fill('');
  await many.getByRole('button', { name: 'Write rows' }).click();
  await expect(page.getByText(/left out, of tags that have a rule “high” already/)).toBeVisible();
  await expect(unsaved()).toContainText(/[12]\d\d new, not saved yet/);
  // The first row that was made is in sight, with a level out of the range of its tag.
  await expect(sheet().getByRole('gridcell', { name: '20', exact: true }).first()).toBeVisible();
  const save = unsaved().getByRole('button', { name: /^Save \d+ rows$/ });
  const count = Number((await save.innerText()).match(/\d+/)?.[0]);
  expect(count).toBeGreaterThan(100);
  await save.click();
  await expect(heading(new RegExp(`^${84 + count} alarm rules$`))).toBeVisible();
  await page.getByRole('button', { name: 'Undo', exact: true }).click();
  await expect(heading(/^84 alarm rules$/)).toBeVisible();
});

test('a rule with a formula is made from its tag; what is missing is told at its field', async () => {
  await page.getByLabel('Filter alarm rules').fill('nowhere');
  await page.getByRole('button', { name: 'Clear filter' }).click();
  await open('bed depth', /Bed depth/);
  await rule().getByRole('button', { name: 'Open tag' }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await inspector.getByRole('button', { name: 'Add alarm rule…' }).click();
  await expect(rule().getByRole('heading', { name: 'New alarm rule of Bed depth' })).toBeVisible();
  await rule().getByLabel('Kind', { exact: true }).selectOption('deviation');
  await rule().getByRole('button', { name: 'Create alarm rule' }).click();
  await expect(rule()).toContainText('Enter the level at which the alarm comes.');
  await expect(rule()).toContainText('Choose the setpoint, or enter a formula for it.');
  await rule().getByLabel('Level, mm').fill('40');
  await formula('Setpoint', 'at("Bed dpth")');
  await expect(rule()).toContainText('There is no tag “Bed dpth”.');
  await formula('Setpoint', 'at("Bed depth") + 5');
  await accessibility(page);
  await rule().getByRole('button', { name: 'Create alarm rule' }).click();
  await expect(rule().getByRole('heading', { name: 'Bed depth deviation' })).toBeVisible();
  await expect(inspector.getByRole('list', { name: 'Other alarm rules' })).toContainText('deviation');
  await inspector.getByRole('button', { name: 'Close inspector' }).click();
  await expect(sheet().getByRole('gridcell', { name: 'deviation', exact: true })).toBeVisible();
});

test('a trial shows when the alarm would come, with delays and bad quality', async () => {
  await open('EX-1 temperature', /EX-1 \/ Temperature/);
  await rule().getByLabel('On-delay, s').fill('5');
  await proof().getByRole('button', { name: 'Trial' }).click();
  const events = proof().getByRole('list', { name: 'Events of the trial' });
  await expect(events).toContainText(/came.*Temperature high high, 9\d\.0 °C over 90\.0/);
  await expect(proof().getByRole('img', { name: /^Trial over 120 s: alarm from 96 s on$/ })).toBeVisible();
  await proof().getByLabel('Temperature, °C').selectOption('step');
  await proof().getByLabel('To', { exact: true }).fill('95');
  await expect(events).toContainText(/25\.0 s.*came/);
  await expect(events).toContainText(/80\.0 s.*returned/);
  await proof().getByLabel('Bad from, s').fill('21');
  await proof().getByLabel('to, s', { exact: true }).fill('70');
  await expect(events).toContainText(/75\.0 s.*came/);
  await accessibility(page, 'dark');
  // Nothing of it was saved.
  await expect(rule().getByRole('button', { name: 'Save alarm rule' })).toBeEnabled();
  await rule().getByRole('button', { name: 'Discard changes' }).click();
  await expect(rule().getByLabel('On-delay, s')).toHaveValue('3');
});

test('a backtest compares settings with those in force, and its suggestion is taken', async () => {
  await open('compressor motor current', /Motor current/);
  await expect(rule().getByRole('heading', { name: 'Motor current high' })).toBeVisible();
  // What the motor takes while the compressor runs without load wavers around this.
  await rule().getByLabel('Level, A').fill('21');
  await rule().getByLabel('Deadband', { exact: true }).fill('0');
  await rule().getByLabel('On-delay, s').fill('0');
  await proof().getByRole('button', { name: 'Backtest', exact: true }).click();
  const outcome = proof().getByRole('table', { name: 'Outcome of the backtest' });
  // The past of the demo comes bit by bit.
  await expect(async () => {
    await proof().getByRole('button', { name: 'Run backtest' }).click();
    await expect(outcome.getByRole('row', { name: /calmer/ })).toBeVisible({ timeout: 4000 });
  }).toPass({ timeout: 60_000 });
  await expect(proof()).toContainText('is recorded when it moves by');
  const chattering = async (row: RegExp) => Number(await outcome.getByRole('row', { name: row }).getByRole('cell').nth(2).innerText());
  expect(await chattering(/as typed here/)).toBeGreaterThan(2);
  expect(await chattering(/calmer/)).toBeLessThan(await chattering(/as typed here/));
  await accessibility(page);
  await proof().getByRole('button', { name: 'Use these settings' }).click();
  const calmed = ['Deadband', 'On-delay, s', 'Off-delay, s'].map((label) => rule().getByLabel(label, { exact: true }).inputValue());
  expect((await Promise.all(calmed)).some((value) => Number(value) > 0)).toBe(true);
  await expect(proof()).toContainText('The settings are others by now; run it again.');
  await rule().getByRole('button', { name: 'Discard changes' }).click();
});

test('a message is made of words and chips, and shows what it would say now', async () => {
  await open('steam pressure low', /Boiler \/ Steam pressure/);
  const message = rule().getByRole('textbox', { name: 'Message', exact: true });
  const now = rule().getByText(/^Now it would say “/);
  await expect(now).toContainText(/“Steam pressure low: Boiler holds \d\.\d\d bar, least 7\.20 bar, at \d+\.\d m³\/h of gas” · \d+ characters/);
  await message.click();
  await page.keyboard.press('Control+a');
  await page.keyboard.press('Delete');
  await expect(rule().getByText(/^Without a message it would say “Steam pressure low,/)).toBeVisible();
  // Typed: a chip is offered once two brackets are open, and taken with Enter.
  await page.keyboard.type('Only [[val');
  await expect(page.getByRole('listbox').getByRole('option', { name: /^value/ })).toBeVisible();
  await page.keyboard.press('Enter');
  await page.keyboard.type(' left, water [[water lev');
  await expect(page.getByRole('listbox').getByRole('option', { name: /^Water level/ })).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(message.getByLabel('chip value')).toBeVisible();
  await expect(now).toContainText(/“Only \d\.\d\d bar left, water \d+\.\d %” · \d\d characters/);
  // A chip goes as a whole.
  await page.keyboard.press('Backspace');
  await expect(now).toContainText(/“Only \d\.\d\d bar left, water” ·/);
  await page.keyboard.type('[[Watr]]');
  await expect(rule()).toContainText('There is no tag “Watr”.');
  await page.keyboard.press('Backspace');
  await rule().getByRole('button', { name: 'limit', exact: true }).click();
  await expect(now).toContainText(/water 7\.20 bar” ·/);
  await accessibility(page);
  const values = rule().getByRole('textbox', { name: 'Values that go with its events' });
  await expect(values.getByLabel('tag Water level')).toBeVisible();
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule().getByRole('button', { name: 'Save alarm rule' })).toBeDisabled();
  // The rule's own code says it, with the values beside.
  await proof().getByRole('button', { name: 'Trial' }).click();
  await proof().getByLabel('From', { exact: true }).fill('9');
  await proof().getByLabel('To', { exact: true }).fill('5');
  const events = proof().getByRole('list', { name: 'Events of the trial' });
  await expect(events).toContainText(/came.*Only 6\.\d\d bar left, water 7\.20 bar/);
  await expect(events).toContainText('Water levelno value (not read yet)');
  await expect(proof()).toContainText(/It also reads .*Water level/);
  await rule().getByRole('button', { name: 'Close alarm rule' }).click();
  // The sheet has it as text, and writes it.
  await page.getByRole('button', { name: 'Columns' }).click();
  await page.getByRole('checkbox', { name: 'Message', exact: true }).click();
  await page.keyboard.press('Escape');
  const cell = (text: string) => sheet().getByRole('gridcell', { name: text, exact: true });
  await cell('Only [[value]] left, water [[limit]]').click();
  await page.keyboard.type('[[Watr level]] of water');
  await page.keyboard.press('Enter');
  await unsaved().getByRole('button', { name: /^Save 1 row$/ }).click();
  await expect(page.getByText('There is no tag “Watr level”.')).toBeVisible();
  await cell('[[Watr level]] of water').click();
  await page.keyboard.type('[[Water level]] of water');
  await page.keyboard.press('Enter');
  await unsaved().getByRole('button', { name: /^Save 1 row$/ }).click();
  await expect(unsaved()).toHaveCount(0);
  await open('steam pressure low', /Boiler \/ Steam pressure/);
  await expect(now).toContainText(/“\d+\.\d % of water” ·/);
  await rule().getByRole('button', { name: 'Close alarm rule' }).click();
});

test('an alarm is suppressed by design while its condition is false', async () => {
  await open('air compressor', /Air pressure/);
  await rule().getByLabel('Suppressed by design unless a condition holds').check();
  await formula('Only while', 'at("Air pressure") > 20');
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule().getByRole('button', { name: 'Save alarm rule' })).toBeDisabled();
  await page.locator('main button[aria-pressed]').filter({ hasText: /^Suppressed/ }).click();
  const line = page.getByRole('table', { name: 'Suppressed alarms' }).getByRole('row').filter({ hasText: 'Air pressure' });
  await expect(line).toContainText('suppressed by design');
  await expect(line).toContainText('> 20');
  await page.locator('main button[aria-pressed]').filter({ hasText: 'Rules' }).click();
  await expect(rule().getByRole('heading', { name: 'Air pressure low' })).toBeVisible();
  await rule().getByLabel('Suppressed by design unless a condition holds').uncheck();
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule().getByRole('button', { name: 'Save alarm rule' })).toBeDisabled();
  await page.locator('main button[aria-pressed]').filter({ hasText: /^Suppressed/ }).click();
  await expect(line).toHaveCount(0);
});

test('a rule that cannot work says why', async () => {
  await page.locator('main button[aria-pressed]').filter({ hasText: 'Rules' }).click();
  await page.getByRole('button', { name: 'Close alarm rule' }).click();
  await page.getByLabel('Filter alarm rules').fill('');
  const zone = page.request.get(`${server.url}/api/items/place`, { params: { text: 'Belt dryer/Zone 1', limit: 1 } });
  const found = (await (await zone).json()) as { revision: number; items: { id: string }[] };
  const edits = [{ op: 'patch', kind: 'place', id: found.items[0]?.id, set: { in_service: false } }];
  const headers = { Origin: server.url, 'If-Match': String(found.revision) };
  const done = await page.request.post(`${server.url}/api/edits`, { data: { why: 'The zone is cleaned', edits }, headers });
  expect(done.status(), await done.text()).toBe(200);
  await page.getByLabel('Which rules').selectOption('faulty');
  await expect(sheet().getByRole('row').filter({ hasText: 'Zone 1' }).first()).toContainText('Its place is out of service.');
});

test('every rule that is shown is run against what is recorded, and the run can be stopped', async () => {
  await page.goto(`${server.url}/alarms?part=rules`);
  await page.getByLabel('Filter alarm rules').fill('meter m1 voltage');
  await expect(heading(/^6 alarm rules$/)).toBeVisible();
  await page.getByRole('button', { name: 'Backtest', exact: true }).click();
  const many = page.getByRole('region', { name: 'Backtest of many rules' });
  await many.getByRole('button', { name: 'Run 6 rules' }).click();
  // Every past has a dip of the voltage.
  await expect(many).toContainText('3 alarms of 6 rules; 3 rules stayed quiet.');
  await expect(many.getByRole('row').filter({ hasText: 'Voltage L1 low' }).getByRole('cell').nth(2)).toHaveText('1');
  await accessibility(page);
  await page.getByLabel('Filter alarm rules').fill('');
  await many.getByRole('button', { name: /^Run 8\d rules$/ }).click();
  await many.getByRole('button', { name: 'Cancel' }).click();
  await expect(many.getByRole('button', { name: /^Run 8\d rules$/ })).toBeVisible();
  await many.getByRole('button', { name: 'Close' }).click();
  await expect(many).toHaveCount(0);
});
