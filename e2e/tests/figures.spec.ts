// What alarms did and how many: the history by a filter and as files, the figures of a flood, the first of a group.

import { readFileSync } from 'node:fs';
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
  // The recorded past comes bit by bit, the newest first; the flood lies 72 minutes back.
  await expect(async () => {
    const answer = await page.request.get(`${server.url}/api/sheets/alarms`, { params: { text: 'meter voltage', kinds: 'raised' } });
    expect(((await answer.json()) as { total: number }).total).toBeGreaterThan(10);
  }).toPass({ timeout: 60_000 });
  await page.goto(`${server.url}/alarms?part=performance`);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const part = (name: RegExp) => page.locator('main button[aria-pressed]').filter({ hasText: name });
const figures = () => page.getByRole('table', { name: 'Figures and guides' });
const history = () => page.getByRole('grid', { name: 'Alarm history' });

test('a flood is found, with what came first, and leads to its alarms', async () => {
  await expect(figures().getByRole('row', { name: /Most alarms in any 10 min.*at most 10.*not met/ })).toBeVisible();
  await expect(figures().getByRole('row', { name: /Share of the time in floods.*%.*under 1 %.*not met/ })).toBeVisible();
  const flood = page.getByRole('region', { name: 'Floods' }).getByRole('listitem').first();
  await expect(flood).toContainText(/\d\d alarms in 1\d min.*first .*Voltage L\d low/);
  await accessibility(page);
  await flood.getByRole('button', { name: 'Its alarms' }).click();
  await expect(page.getByText(/^\d\d events, newest first$/)).toBeVisible();
  await expect(page.getByLabel('Which events')).toHaveValue('came');
  await expect(history().getByRole('row').filter({ hasText: 'Voltage' }).first()).toBeVisible();
  await part(/^Performance/).click();
  await expect(page.getByRole('button', { name: 'Period: Live, last week' })).toBeVisible();
});

test('a figure leads to the rules behind it, and a rule to its settings', async () => {
  await figures().getByRole('button', { name: 'Standing for more than 24 h' }).click();
  const rules = page.getByRole('table', { name: 'Rules', exact: true });
  await expect(rules.getByRole('columnheader', { name: 'Stood' })).toHaveAttribute('aria-sort', 'descending');
  const first = rules.getByRole('row').nth(1);
  const title = (await first.getByRole('cell').first().innerText()).split('·').at(-1)?.trim() ?? '';
  await first.getByRole('button', { name: 'Rule' }).click();
  await expect(page.getByRole('region', { name: 'Alarm rule' }).getByRole('heading', { name: title, exact: true })).toBeVisible();
  await part(/^Performance/).click();
});

test('an operator area is named on a place, and measured by itself', async () => {
  const { items, revision } = (await (
    await page.request.get(`${server.url}/api/items/place`, { params: { text: 'Utilities', limit: 50 } })
  ).json()) as { revision: number; items: { id: string; title: string }[] };
  const place = items.find((item) => item.title.endsWith('Utilities'));
  await page.goto(`${server.url}/model?at=${place?.id}`);
  expect(revision).toBeGreaterThan(0);
  await page.locator('main button[aria-pressed]').filter({ hasText: /^Place/ }).click();
  const form = page.getByRole('form', { name: 'Place' });
  await form.getByLabel('Operator area, who watches its alarms').fill('Boiler house');
  await form.getByRole('button', { name: 'Save' }).first().click();
  await expect(form.getByRole('button', { name: 'Save' }).first()).toBeDisabled();
  await page.goto(`${server.url}/alarms?part=performance`);
  const areas = page.getByRole('region', { name: 'Operator areas' });
  await expect(areas.getByRole('row', { name: /^Boiler house/ })).toContainText('not met');
  await expect(areas.getByRole('row', { name: /^Wet end/ })).toBeVisible();
  await areas.getByRole('button', { name: 'Boiler house' }).click();
  await expect(page.getByLabel('Operator area', { exact: true })).toHaveValue('Boiler house');
  await expect(page.getByRole('region', { name: 'Floods' })).toContainText('Voltage');
  await accessibility(page, 'dark');
});

test('the history is filtered and saved as files', async () => {
  await page.goto(`${server.url}/alarms?part=history`);
  await page.getByLabel('Filter the history').fill('voltage operator');
  await expect(history().getByRole('row').nth(1)).toContainText('acknowledged');
  await page.getByLabel('Filter the history').fill('voltage');
  await page.getByLabel('Which events').selectOption('came');
  await page.getByLabel('Of which priority').selectOption('2');
  await expect(history().getByRole('row').nth(1)).toContainText('came');
  const total = Number((await page.getByText(/^\d+ events, newest first$/).innerText()).match(/\d+/)?.[0]);
  await accessibility(page);
  const saved = async (name: string) => {
    const [download] = await Promise.all([page.waitForEvent('download'), page.getByRole('button', { name, exact: true }).click()]);
    expect(download.suggestedFilename()).toBe(`alarm-history.${name.toLowerCase()}`);
    return readFileSync(await download.path());
  };
  const lines = (await saved('CSV')).toString().trimEnd().split('\r\n');
  expect(lines.length).toBe(total + 1);
  expect(lines[0]).toBe('Time,Place,Alarm,Event,Priority,Value,Limit,Who,Comment,Values with it,Known at');
  expect(lines[1]).toMatch(/^20.*Z,.*Voltage L\d low.*,came,2,/);
  expect((await saved('XLSX')).subarray(0, 2).toString()).toBe('PK');
  await page.getByRole('button', { name: 'Clear filter' }).click();
  await expect(page.getByLabel('Filter the history')).toHaveValue('');
  // A period that goes on.
  await page.getByRole('button', { name: /^Period: / }).click();
  await page.getByRole('button', { name: 'last 1 h', exact: true }).click();
  await expect(page.getByRole('button', { name: /^Period: Live, last (1 h|60 min|hour)/ })).toBeVisible();
  await expect(history().getByRole('row').nth(1)).toBeVisible();
  await page.getByRole('button', { name: 'Clear filter' }).click();
  await expect(page.getByRole('button', { name: 'Period: All times' })).toBeVisible();
});

test('the alarm that came first of its group is marked', async () => {
  await page.goto(`${server.url}/alarms`);
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'Jam the mill' }).click();
  await page.getByRole('link', { name: 'Alarms', exact: true }).click();
  const alarms = page.getByRole('grid', { name: /alarms/i });
  const row = (words: RegExp) => alarms.getByRole('row').filter({ hasText: words });
  await expect(row(/Running is Stopped/)).toBeVisible({ timeout: 60_000 });
  await expect(row(/Vibration high/)).toContainText('first out');
  await expect(row(/Vibration high/)).toContainText(/Vibration high: \d\.\d\d mm\/s over 4\.50 mm\/s, the mill draws \d+\.\d kW/);
  await expect(row(/Running is Stopped/)).not.toContainText('first out');
  // The list shows it in a column of its own, which the address keeps.
  await page.getByRole('button', { name: 'Columns' }).click();
  await page.getByRole('checkbox', { name: 'Came after' }).click();
  await page.keyboard.press('Escape');
  await expect(row(/Running is Stopped/)).toContainText('Vibration high');
  await expect(page).toHaveURL(/columns=since%2Cwhat%2Cafter%2Cnow/);
  await accessibility(page);
  await row(/Running is Stopped/).getByRole('button', { name: /Running is Stopped/ }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await expect(inspector).toContainText(/after “Vibration high/);
  // What led to it is told from history.
  await inspector.getByRole('button', { name: 'What moved before it?' }).click();
  await expect(inspector.getByRole('list', { name: 'Values that moved' })).toContainText(/Mill \/ Vibration\s*higher than usual/);
  await expect(inspector.getByRole('list', { name: 'Other alarms near it' })).toContainText('Vibration high');
  await accessibility(page);
  // What the rule keeps with its events is told with them, here and in the history.
  await row(/Vibration high/).getByRole('button', { name: /Vibration high/ }).click();
  await expect(inspector.getByRole('region', { name: 'What happened' })).toContainText(/came, first outPower\d+\.\d kWProduct flow\d+ kg\/h/);
  await part(/^History/).click();
  await page.getByLabel('Filter the history').fill('vibration');
  await expect(history().getByRole('row').filter({ hasText: /· Power \d+\.\d kW · Product flow \d+ kg\/h/ }).first()).toBeVisible();
});

test('an alarm that chatters is found among the figures', async () => {
  await page.goto(`${server.url}/alarms?part=performance`);
  await figures().getByRole('button', { name: 'Chattering: 3 or more in a minute' }).click();
  const first = page.getByRole('table', { name: 'Rules', exact: true }).getByRole('row').nth(1);
  await expect(first).toContainText(/Reception hopper · Level low low/);
  await expect(first.getByRole('cell').nth(2)).toHaveText(/^[67]$/);
});
