// Record in the hands of an engineer: a recorder made for whatever fits, its figures in a trend, rows at an event and by hand,
// mistakes told at their place, a pause that outlasts a restart.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '8', '--past', '0.3']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const desk = (name: string) => page.getByRole('navigation', { name: 'Desks' }).getByRole('link', { name, exact: true }).click();
const form = () => page.locator('main form');
const line = (name: string) => page.getByRole('row').filter({ hasText: name });
const rows = (name: string) => page.getByRole('table', { name: `Rows of ${name}` });

test('the desk tells what goes into history, how much that is, and how long the disk lasts', async () => {
  await desk('Record');
  await expect(page.getByText('230 of 230 tags go into history by themselves')).toBeVisible();
  const disk = page.getByRole('region', { name: 'History on disk' });
  for (const words of ['Samples a day', 'Grows by', 'Disk full in', 'free']) await expect(disk).toContainText(words);
  await expect(line('Minute figures')).toContainText('every minute: average, minimum, maximum');
  await expect(line('EX-1 begins to discharge')).toContainText('when EX-1 / Phase == 4 becomes true');
  await accessibility(page);
});

test('a recorder for whatever fits shows at once what it comes to, and what is wrong stands at its field', async () => {
  await page.getByRole('button', { name: 'Recorder', exact: true }).click();
  await expect(page.getByRole('heading', { name: 'New recorder' })).toBeVisible();
  await form().getByLabel('Name', { exact: true }).fill('Second figures');
  await page.getByRole('button', { name: 'Tags by what they are' }).click();
  const comes = page.getByRole('region', { name: 'What it comes to' });
  await form().getByLabel('In the unit').fill('bar');
  await expect(comes.getByRole('status')).toContainText('3 tags');
  await expect(comes.getByRole('list', { name: 'Recorded tags' })).toContainText('Boiler / Steam pressure');
  await form().getByRole('textbox', { name: 'Every' }).fill('7');
  await form().getByLabel('Unit of every').selectOption('s');
  await page.getByRole('button', { name: 'Create recorder' }).click();
  await expect(form().getByText('A whole number of these must make an hour.')).toBeVisible();
  await form().getByRole('textbox', { name: 'Every' }).fill('1');
  await form().getByText('average', { exact: true }).click();
  await form().getByText('maximum', { exact: true }).click();
  await form().getByText('value', { exact: true }).click();
  // A day has 86,400 seconds; two figures of three tags.
  await expect(comes.getByRole('status')).toContainText('518,000');
  await accessibility(page);
  // What is typed outlasts another desk.
  await desk('Board');
  await desk('Record');
  await page.getByRole('button', { name: 'Recorder', exact: true }).click();
  await expect(form().getByLabel('Name', { exact: true })).toHaveValue('Second figures');
  await page.getByRole('button', { name: 'Create recorder' }).click();
  await expect(page.getByText('Saved. It records from now on.')).toBeVisible();
  await expect(line('Second figures')).toContainText('every second: average, maximum');
  await expect(line('Second figures')).toContainText('518,000');
});

test('its figures arrive as rows, and the trend shows them beside the value', async () => {
  await page.getByRole('button', { name: 'Second figures', exact: true }).click();
  const table = rows('Second figures');
  await expect(table.getByRole('columnheader', { name: /Steam pressure.*average, bar/ })).toBeVisible();
  await expect(table.getByRole('row').nth(3)).toContainText(/\d\.\d/);
  await desk('Explore');
  await page.getByRole('combobox', { name: 'Add a tag' }).fill('steam pressure');
  await page.getByRole('option', { name: /Steam pressure/ }).first().click();
  const what = page.getByRole('combobox', { name: /^What of/ });
  await what.selectOption({ label: 'maximum · 1 s, Second figures' });
  await expect(page).toHaveURL(/\.maximum\./);
  const figures = page.getByRole('row').filter({ hasText: 'Steam pressure, maximum' });
  await expect(figures).toContainText(/\d\.\d/);
  await expect(figures).toContainText('bar');
});

test('an event takes a row of all values as of its instant', async () => {
  await desk('Record');
  await page.getByRole('button', { name: 'EX-1 begins to discharge', exact: true }).click();
  const table = rows('EX-1 begins to discharge');
  // The past of the demo holds runs, and at this pace the next one is not far.
  await expect(table.getByRole('row').nth(2)).toContainText('Discharge');
  await expect(table.getByRole('columnheader', { name: /EX-1 \/ Run/ })).toBeVisible();
  await expect(table.getByRole('row').nth(1)).toContainText(/KX-\d{4}-\d{4}/);
  await page.getByRole('button', { name: 'Close', exact: true }).click();
});

test('a row is taken by hand with who did it, and a pause outlasts a restart', async () => {
  await page.getByRole('button', { name: 'Take row of Laboratory sample' }).click();
  await expect(page.getByText('“Laboratory sample” has taken a row.')).toBeVisible();
  await page.getByRole('button', { name: 'Laboratory sample', exact: true }).click();
  await expect(rows('Laboratory sample').getByRole('row').nth(1)).toContainText('Plant engineer');
  await page.getByRole('button', { name: 'Close', exact: true }).click();
  await page.getByRole('button', { name: 'Pause Laboratory sample' }).click();
  await expect(line('Laboratory sample')).toContainText('paused');
  await expect(page.getByRole('button', { name: 'Take row of Laboratory sample' })).toHaveCount(0);
  await server.restart();
  await page.reload();
  await expect(line('Laboratory sample')).toContainText('paused');
  await page.getByRole('button', { name: 'Resume Laboratory sample' }).click();
  await expect(page.getByRole('button', { name: 'Take row of Laboratory sample' })).toBeVisible();
});

test('a trigger is typed with completion, its mistake stands beside it, and a value followed shows its recorders', async () => {
  await page.getByRole('button', { name: 'Recorder', exact: true }).click();
  await form().getByLabel('Name', { exact: true }).fill('Steam is low');
  await page.getByRole('combobox', { name: 'Add a single tag' }).fill('gas flow');
  await page.getByRole('option', { name: /Gas flow/ }).first().click();
  await form().getByLabel('It records', { exact: true }).selectOption('event');
  const condition = form().getByRole('textbox', { name: 'Condition' });
  await condition.click();
  await page.keyboard.type('steam press');
  await page.getByRole('option', { name: /Steam pressure/ }).first().click();
  await page.keyboard.type(' <');
  await expect(form().getByText(/The formula ends too early/)).toBeVisible();
  await page.keyboard.type(' 3');
  await expect(form().getByText(/The formula ends too early/)).toHaveCount(0);
  await page.getByRole('button', { name: 'Create recorder' }).click();
  await expect(line('Steam is low')).toContainText('when Boiler / Steam pressure < 3 becomes true');
  await page.getByRole('button', { name: 'Steam is low', exact: true }).click();
  await page.getByRole('button', { name: 'Delete…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Delete' }).click();
  await expect(line('Steam is low')).toHaveCount(0);
});
