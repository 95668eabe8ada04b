// The review of alarm rules: what speaks against them, priorities argued for by the site's guide, and who has checked them.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '1', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.goto(`${server.url}/alarms?part=review`);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const part = (name: RegExp) => page.locator('main button[aria-pressed]').filter({ hasText: name });
const findings = () => page.getByRole('table', { name: 'Findings' });
const finding = (words: RegExp) => findings().getByRole('row', { name: words });
const sheet = () => page.getByRole('grid', { name: 'Alarm rules' });
const rule = () => page.getByRole('region', { name: 'Alarm rule', exact: true });
const counted = async (words: RegExp) => Number(await finding(words).getByRole('cell').first().innerText());

test('a review finds the rules that were made badly, and shows them', async () => {
  await expect(finding(/^2 Duplicates/)).toBeVisible();
  await expect(finding(/^2 Limits in the wrong order/)).toBeVisible();
  await expect(finding(/^3 Without “what to do”/)).toBeVisible();
  await expect(page.getByRole('table', { name: 'Spread of the rules' })).toContainText('about 80 %');
  await accessibility(page);
  await page.getByRole('button', { name: 'Show: Duplicates' }).click();
  await expect(page.getByRole('heading', { name: /^2 alarm rules$/ })).toBeVisible();
  await expect(page.getByLabel('Which rules')).toHaveValue('duplicate');
  await expect(sheet().getByRole('gridcell', { name: /Price of electricity/ })).toHaveCount(2);
  // Another choice holds, and the next look at the review begins anew.
  await page.getByLabel('Which rules').selectOption('wrong_order');
  await expect(sheet().getByRole('gridcell', { name: /Leach vessel/ }).first()).toBeVisible();
});

test('a priority is argued for: the guide gives one, another needs a reason', async () => {
  await page.getByLabel('Which rules').selectOption('all');
  await page.getByLabel('Filter alarm rules').fill('outlet turbidity');
  await sheet().getByRole('gridcell', { name: /Turbidity/ }).first().click();
  await page.keyboard.press('Enter');
  await rule().getByLabel('What happens where nobody acts').fill('Sludge goes into the river.');
  await rule().getByLabel('Environment').selectOption('major');
  await rule().getByLabel('Act within, min').fill('4');
  await expect(rule()).toContainText('The guide gives 3 · act soon.');
  await accessibility(page);
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule()).toContainText('The guide gives priority 3. Take that, or say why this rule has another.');
  await rule().getByRole('button', { name: 'Take 3' }).click();
  await expect(rule().getByLabel('Priority', { exact: true })).toHaveValue('3');
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule().getByRole('button', { name: 'Save alarm rule' })).toBeDisabled();
});

test('whoever checks a rule stands at it until something changes', async () => {
  await part(/^Review/).click();
  const before = await counted(/Not checked as they are now/);
  await part(/^Rules/).click();
  await rule().getByRole('button', { name: 'Mark as checked' }).click();
  await expect(rule()).toContainText('checked by Plant engineer');
  await part(/^Review/).click();
  await expect(finding(/Not checked as they are now/).getByRole('cell').first()).toHaveText(String(before - 1));
  await part(/^Rules/).click();
  await rule().getByLabel('On-delay, s').fill('33');
  await rule().getByRole('button', { name: 'Save alarm rule' }).click();
  await expect(rule()).toContainText('changed since it was checked by Plant engineer');
});

test('the guide is the site’s own', async () => {
  await part(/^Review/).click();
  await page.getByRole('button', { name: 'Guide to priorities' }).click();
  const guide = page.getByRole('form', { name: 'Guide to priorities' });
  const before = await counted(/Other priority than the guide gives/);
  await guide.getByLabel('major, within 5 min').selectOption('1');
  await guide.getByRole('button', { name: 'Save guide' }).click();
  await expect(guide).toContainText('The less time there is, the higher the priority must be.');
  await guide.getByLabel('major, within 5 min').selectOption('4');
  await guide.getByLabel('Environment, severe').fill('fish die');
  await accessibility(page, 'dark');
  await guide.getByRole('button', { name: 'Save guide' }).click();
  await expect(guide.getByRole('button', { name: 'Save guide' })).toBeDisabled();
  await expect(async () => expect(await counted(/Other priority than the guide gives/)).toBeGreaterThan(before)).toPass();
});
