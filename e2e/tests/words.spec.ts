// What values are called and stand for: names of states, units to choose from, and values set by hand.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { cards, enter, type Server, start } from '../server';

// Each goes on from what the one before has made.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0']);
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 } });
  await context.grantPermissions(['clipboard-read', 'clipboard-write'], { origin: server.url });
  page = await context.newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await expect(card('EX-2')).toBeVisible();
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const card = (name: string) => page.getByRole('region', { name, exact: true });
/** Opens a desk; of the board its cards. */
const desk = async (name: string) => {
  await page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
  if (name === 'Board') await cards(page);
};
const part = (name: string | RegExp) => page.locator('main button[aria-pressed]').getByText(name).click();
const inspector = () => page.getByRole('complementary', { name: 'Inspector' });
const open = (place: string, tag: string) => card(place).getByRole('button', { name: tag, exact: true }).click();
const row = (place: string, tag: string) =>
  card(place)
    .getByRole('listitem')
    .filter({ has: page.getByRole('button', { name: tag, exact: true }) });

test('a set of state names is made, chosen, shown, and used to write and to set a limit', async () => {
  await expect(row('EX-1', 'Phase')).toContainText(/Fill|Heat|Hold|Discharge|Rinse/);
  await desk('Model');
  await part('State names');
  await page.getByRole('button', { name: 'New set' }).click();
  const form = page.getByRole('form', { name: 'New set of state names' });
  await form.getByLabel('Name of the set').fill('Motor');
  await page.evaluate(() => navigator.clipboard.writeText('0\tLocked\n1\tReleased'));
  await form.getByLabel('Name of state 1').focus();
  await page.keyboard.press('Control+v');
  await expect(form.getByLabel('Name of state 2')).toHaveValue('Released');
  await form.getByRole('button', { name: 'Create set' }).click();
  // The name is taken; what was typed stays.
  await expect(form).toContainText('There is already a set of state names “Motor”.');
  await form.getByLabel('Name of the set').fill('Interlock');
  await form.getByLabel('Number of state 2').fill('0');
  await form.getByRole('button', { name: 'Create set' }).click();
  await expect(form).toContainText('0 appears twice.');
  await form.getByLabel('Number of state 2').fill('1');
  await form.getByRole('button', { name: 'Create set' }).click();
  await expect(page.getByRole('list', { name: 'Sets of state names' })).toContainText('0 Locked · 1 Released');

  await desk('Board');
  await open('EX-1', 'Heating allowed');
  await inspector().getByLabel('State names').selectOption('Interlock');
  await inspector().getByRole('button', { name: 'Save settings' }).click();
  await expect(card('EX-1')).toContainText('Heating allowedReleased');
  await inspector().getByLabel('New value').selectOption('Locked');
  await inspector().getByRole('button', { name: 'Write…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write Locked' }).click();
  await expect(inspector().getByText('Written; the device now holds Locked.')).toBeVisible();
  await expect(card('EX-1')).toContainText('Heating allowedLocked');
  await inspector().getByLabel('Limit low', { exact: true }).selectOption('Locked');
  await inspector().getByRole('button', { name: 'Save limits' }).click();
  await expect(inspector().getByLabel('Limit low', { exact: true })).toHaveValue('0');
  await inspector().getByLabel('New value').selectOption('Released');
  await inspector().getByRole('button', { name: 'Write…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write Released' }).click();
  await expect(card('EX-1')).toContainText('Heating allowedReleased');
});

test('a quantity is seen in another unit, everywhere, until it is seen as configured again', async () => {
  await open('EX-1', 'Temperature');
  await inspector().getByRole('button', { name: '°C; show temperature in another unit' }).focus();
  await page.keyboard.press('Enter');
  await page.getByRole('menuitemradio', { name: /°F/ }).press('Enter');
  await expect(row('EX-1', 'Temperature')).toContainText('°F');
  await expect(row('Wash tank 1', 'Temperature')).toContainText('°F');
  // Both figures of one drawing: the value moves meanwhile.
  const both = (await inspector().textContent()) ?? '';
  const [, shown, own] = /(-?\d+\.\d+)\s*°F\s*\d\d:\d\d:\d\d\s*(-?\d+\.\d+) °C as it is configured/.exec(both) ?? [];
  expect(Math.abs(Number(shown) - (Number(own) * 1.8 + 32)), both).toBeLessThan(0.2);
  // What is written is written in the tag's own unit.
  await open('EX-1', 'Temperature setpoint');
  await expect(inspector().getByLabel('New value, °C')).toBeVisible();
  await open('EX-1', 'Temperature');
  await inspector().getByRole('button', { name: 'Trend' }).click();
  const figures = page.getByRole('table', { name: 'Statistics of the visible span' });
  await expect(figures.getByRole('row', { name: /Temperature/ })).toContainText('°F');
  // The figures come a moment after their unit.
  const highest = figures.getByRole('row', { name: /Temperature/ }).getByRole('cell').nth(3);
  await expect(highest).toHaveText(/\d/);
  expect(Number(await highest.textContent())).toBeGreaterThan(50);
  await page.reload();
  await expect(figures.getByRole('row', { name: /Temperature/ })).toContainText('°F');
  await page.getByTestId('cursor').getByRole('button', { name: /show temperature/ }).click();
  await page.getByRole('menuitemradio', { name: /as it is configured/ }).click();
  await expect(figures.getByRole('row', { name: /Temperature/ })).toContainText('°C');
  await desk('Board');
});

test('a unit typed by its open code is the unit it stands for', async () => {
  await open('EX-1', 'Phase');
  const unit = inspector().getByLabel('Unit', { exact: true });
  await unit.fill('m3/h');
  await unit.blur();
  await expect(unit).toHaveValue('m³/h');
  await unit.fill('');
});

test('a value is set by hand by keyboard alone, marked everywhere, and released', async () => {
  await open('EX-1', 'Level');
  await inspector().getByRole('button', { name: 'Set by hand…' }).focus();
  await page.keyboard.press('Enter');
  await expect(inspector().getByLabel('Value, %')).toBeFocused();
  await page.keyboard.type('140');
  await page.keyboard.press('Tab');
  await page.keyboard.type('Probe is out for cleaning');
  await page.keyboard.press('Enter');
  await expect(inspector()).toContainText('The value must be between 0 and 100 %.');
  await expect(inspector().getByLabel('Reason')).toHaveValue('Probe is out for cleaning');
  await inspector().getByLabel('Value, %').fill('80,5');
  await page.keyboard.press('Enter');
  const level = row('EX-1', 'Level').first();
  await expect(level).toContainText('✎80.5');
  await expect(level.getByRole('button', { name: /^Set by hand by Plant engineer, until .*: Probe is out for cleaning/ })).toBeVisible();
  await expect(page.getByRole('contentinfo')).toContainText('✎ 1 set by hand');
  await expect(page.getByRole('treeitem', { name: /^EX-1,.* 1 set by hand/ })).toBeVisible();
  // It is judged as any value would be.
  await page.getByRole('contentinfo').getByRole('link', { name: /set by hand/ }).click();
  const list = page.getByRole('table', { name: 'Set by hand' });
  await expect(list.getByRole('row', { name: /EX-1 \/ Level ✎ 80\.5 % Probe is out for cleaning Plant engineer ends/ })).toBeVisible();
  await part(/^Standing/);
  await expect(page.getByRole('row', { name: /Level high, 80\.5 % over 75\.2/ })).toBeVisible();
  await desk('Model');
  await page.getByLabel('Which tags').selectOption('by_hand');
  await expect(page.getByRole('heading', { name: '1 tag', exact: true })).toBeVisible();
  await page.getByLabel('Which tags').selectOption('alarm');
  await expect(page.getByRole('grid', { name: 'Tags' })).toContainText('Level');

  // In history too: the statistics of the trend say how much of it was set by hand.
  await desk('Board');
  await open('EX-1', 'Level');
  await inspector().getByRole('button', { name: 'Trend' }).click();
  await expect(page.getByRole('table', { name: 'Statistics of the visible span' })).toContainText(/✎ \d+ %/, { timeout: 15_000 });

  // Kept over a restart, because somebody says so.
  await inspector().getByRole('button', { name: 'Change…' }).click();
  await inspector().getByLabel('Value, %').fill('42');
  await inspector().getByRole('checkbox', { name: 'Keep after a restart of Havrel' }).click();
  await inspector().getByRole('button', { name: 'Set by hand', exact: true }).click();
  await expect(inspector()).toContainText('kept after a restart');
  await server.restart();
  await expect(page.getByText('The server cannot be reached')).toHaveCount(0, { timeout: 30_000 });
  await desk('Board');
  await expect(level).toContainText('✎42.0', { timeout: 20_000 });
  await open('EX-1', 'Level');
  await inspector().getByRole('button', { name: 'Release' }).click();
  await expect(level).not.toContainText('✎');
  await expect(page.getByRole('contentinfo')).not.toContainText('set by hand');
  await desk('Journal');
  await page.getByLabel('Kind').selectOption('by_hand');
  await expect(page.getByRole('row', { name: /Released .*EX-1\/Level, which Plant engineer had set by hand/ })).toBeVisible();
  await expect(page.getByRole('row', { name: /Set .*EX-1\/Level by hand to 42\.0 %/ })).toBeVisible();
});

for (const theme of ['light', 'dark'] as const) {
  test(`state names and the list of what is set by hand are accessible, ${theme}`, async () => {
    await page.emulateMedia({ colorScheme: theme });
    await desk('Board');
    await open('EX-2', 'Level');
    await inspector().getByRole('button', { name: 'Set by hand…' }).click();
    await inspector().getByLabel('Value, %').fill('50');
    await inspector().getByLabel('Reason').fill('Trial');
    await accessibility(page, theme);
    await inspector().getByRole('button', { name: 'Set by hand', exact: true }).click();
    await expect(inspector().getByRole('button', { name: 'Release' })).toBeVisible();
    await accessibility(page, theme);
    await desk('Alarms');
    await part(/^Set by hand/);
    await accessibility(page, theme);
    await page.getByRole('table', { name: 'Set by hand' }).getByRole('button', { name: /^Release / }).click();
    await expect(page.getByText('Nothing is set by hand', { exact: true })).toBeVisible();
    await desk('Model');
    await part('State names');
    await page.getByRole('button', { name: /^Interlock/ }).click();
    await accessibility(page, theme);
  });
}
