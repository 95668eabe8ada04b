// Lookup in the hands of an analyst: a table asked of history, narrowed, saved, written as files and asked for by a program, with the
// same numbers everywhere.

import { readFile } from 'node:fs/promises';
import { expect, type Page, request, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '8', '--past', '2']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const form = () => page.getByRole('form', { name: 'Lookup' });
const sheet = () => page.getByRole('grid', { name: 'Rows of the lookup' });
const count = () => page.getByRole('main').getByRole('status').filter({ hasText: 'tag' });
const below = () => page.getByRole('region', { name: 'What the columns come to' });
const button = (name: string) => page.getByRole('button', { name, exact: true });

async function period(words: string) {
  await page.getByRole('button', { name: /^Period:/ }).click();
  await page.getByLabel('Period in words').fill(words);
  await page.keyboard.press('Enter');
}

test('tags chosen by what they are give rows at once, and what the columns come to', async () => {
  await page.getByRole('navigation', { name: 'Desks' }).getByRole('link', { name: 'Explore', exact: true }).click();
  await button('Lookup').click();
  await expect(page.getByRole('heading', { name: 'Choose tags to look up their values' })).toBeVisible();
  await accessibility(page);
  await button('Tags by what they are').click();
  await form().getByLabel('With words in the path').fill('ex-1');
  await form().getByLabel('In the unit').fill('°C');
  await expect(sheet().getByRole('columnheader', { name: /EX-1 \/ Temperature, °C/ })).toBeVisible();
  await expect(sheet().getByRole('row').nth(1).getByRole('gridcell').first()).toHaveText(/^\d{4}-\d\d-\d\d \d\d:\d\d:\d\d/);
  await expect(below().getByRole('row', { name: /EX-1 \/ Temperature/ }).first()).toContainText(/\d+\.\d/);
  await accessibility(page);
});

test('spans are counted beforehand, are even on the clock, and any of them is reached at once', async () => {
  await form().getByLabel('A row is').selectOption('figures of spans');
  await form().getByRole('textbox', { name: 'Spans of' }).fill('1');
  await form().getByLabel('Unit of the step').selectOption('s');
  await period('last 1 h');
  await expect(count()).toHaveText(/^3,60[01] rows · \d+ tags?$/);
  await sheet().focus();
  await page.keyboard.press('End');
  await expect(sheet().locator('[aria-rowindex="3601"]').getByRole('gridcell').nth(2)).not.toHaveText('…');
  await form().getByRole('textbox', { name: 'Spans of' }).fill('0');
  await expect(form().getByText('This must lie between 1 and 100000.')).toBeVisible();
  await form().getByRole('textbox', { name: 'Spans of' }).fill('10');
  await form().getByLabel('Unit of the step').selectOption('min');
  await expect(count()).toHaveText(/^[67] rows/);
  await form().getByText('good, %').click();
  await expect(sheet().getByRole('columnheader', { name: /good, %/ }).first()).toBeVisible();
});

test('rows are narrowed by comparing columns, and a mistake stands at its place', async () => {
  await form().getByLabel('A row is').selectOption('what was stored');
  const condition = form().getByRole('textbox', { name: 'Condition of the rows' });
  await condition.click();
  await page.keyboard.type('at("Nowhere/Temperature") > 1.0');
  await expect(form().getByText(/There is no tag/).first()).toBeVisible();
  await condition.click();
  await page.keyboard.press('Control+a');
  await page.keyboard.type('1.0 > 2.0');
  await expect(count()).toHaveText(/^0 rows · /);
  await condition.click();
  await page.keyboard.press('Control+a');
  await page.keyboard.press('Delete');
  await expect(count()).toHaveText(/^[1-9][\d,]+ rows · /);
});

test('the address holds the whole question', async () => {
  await form().getByLabel('A row is').selectOption('even instants');
  await form().getByRole('textbox', { name: 'Every' }).fill('5');
  await expect(count()).toHaveText(/^1[23] rows/);
  await button('Oldest first').click();
  await page.reload();
  await expect(form().getByRole('textbox', { name: 'Every' })).toHaveValue('5');
  await expect(button('Newest first')).toBeVisible();
  await expect(form().getByLabel('In the unit')).toHaveValue('°C');
  await expect(count()).toHaveText(/^1[23] rows/);
  await button('Plot').click();
  await expect(page.getByRole('region', { name: 'Plot' }).locator('canvas').first()).toBeVisible();
  await button('Hide plot').click();
});

test('a saved lookup is opened again, written as a file, and asked for by a program, with the same numbers', async () => {
  // A period that stands still.
  const to = new Date(Math.floor(Date.now() / 600_000) * 600_000);
  const text = (at: number) => {
    const time = new Date(at);
    const two = (n: number) => String(n).padStart(2, '0');
    return `${time.getFullYear()}-${two(time.getMonth() + 1)}-${two(time.getDate())} ${two(time.getHours())}:${two(time.getMinutes())}`;
  };
  await button('Newest first').click();
  await period(`${text(to.getTime() - 3_600_000)} to ${text(to.getTime())}`);
  await expect(count()).toHaveText(/^12 rows/);
  await button('Saved…').click();
  const dialog = page.getByRole('dialog');
  await dialog.getByLabel('Save this lookup as').fill('Vessel temperatures');
  await dialog.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(dialog.getByRole('list', { name: 'Saved lookups' })).toContainText('Vessel temperatures');
  await page.keyboard.press('Escape');

  await button('File…').click();
  await page.getByLabel('Name', { exact: true }).fill('Temperatures of the hour');
  await button('Write the file').click();
  await expect(dialog.getByText(/Temperatures of the hour\.csv · 12 rows/)).toBeVisible();
  await accessibility(page);
  const [download] = await Promise.all([page.waitForEvent('download'), dialog.getByRole('link', { name: 'Save it' }).click()]);
  expect(download.suggestedFilename()).toBe('Temperatures of the hour.csv');
  const csv = (await readFile(await download.path(), 'utf8')).trim();
  expect(csv.split('\r\n')).toHaveLength(13);
  await page.getByLabel('Format').selectOption('Parquet');
  await button('Write the file').click();
  await expect(dialog.getByText(/Temperatures of the hour\.parquet · 12 rows/)).toBeVisible();
  await page.keyboard.press('Escape');

  await button('Programs…').click();
  await dialog.getByLabel('Token that reads, for').fill('Laboratory notebook');
  await dialog.getByRole('button', { name: 'Create token' }).click();
  await expect(dialog.getByText('it is not shown again')).toBeVisible();
  await accessibility(page);
  const code = (await dialog.locator('pre').textContent()) ?? '';
  const [, bearer = '', url = ''] = /'Authorization: (Bearer [^']+)' '([^']+)'/.exec(code) ?? [];
  // A program has no cookie.
  const program = await request.newContext({ extraHTTPHeaders: { authorization: bearer } });
  expect((await (await program.get(url)).text()).trim()).toBe(csv);
  const told = await (await program.get(url.replace('csv', 'json'))).json();
  const wanted = csv.split('\r\n').slice(1).map((line) => (line.split(',')[1] ? Number(line.split(',')[1]) : null));
  expect(told.rows.map((row: unknown[]) => row[1])).toEqual(wanted);
  await program.dispose();
  expect((await fetch(url)).status).toBe(401);
  await page.keyboard.press('Escape');

  await page.goto(`${server.url}/explore?part=lookup`);
  await page.getByRole('list', { name: 'Saved lookups' }).getByRole('button', { name: /Vessel temperatures/ }).first().click();
  await expect(count()).toHaveText(/^12 rows/);
  await expect(form().getByRole('textbox', { name: 'Every' })).toHaveValue('5');
});
