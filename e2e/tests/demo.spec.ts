// The demo plant in the hands of an engineer and an operator.

import { readFileSync } from 'node:fs';
import { expect, type Locator, type Page, test } from '@playwright/test';
import { getDocument } from 'pdfjs-dist/legacy/build/pdf.mjs';
import { accessibility } from '../accessibility';
import { NAME, PASSWORD, type Server, start } from '../server';

let server: Server;
let page: Page;
/** What the page threw: nobody would see it otherwise. */
const thrown: string[] = [];


test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '2']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await page.goto(server.entrance);
  await page.getByLabel('Name').fill(NAME);
  await page.getByLabel('Password').fill('short');
  await page.getByRole('button', { name: 'Create account' }).click();
  await expect(page.getByText('A password has at least 8 characters.')).toBeVisible();
  await expect(page.getByLabel('Name')).toHaveValue(NAME);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByRole('button', { name: 'Create account' }).click();
  await expect(page.getByRole('region', { name: 'EX-2' })).toBeVisible();
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const desk = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
const inspector = () => page.getByRole('complementary', { name: 'Inspector' });
/** A part of a desk. */
const part = (name: string) => page.locator('main button[aria-pressed]').getByText(name, { exact: true }).click();
const place = (name: string) => page.getByRole('treeitem', { name: new RegExp(name) });

test('the board moves', async () => {
  const level = page.getByRole('region', { name: 'EX-1' }).getByRole('listitem').filter({ hasText: 'Level' });
  await expect(level.getByText(/^\d+\.\d$/)).toBeVisible();
  const before = await level.textContent();
  await expect(level).not.toHaveText(before ?? '', { timeout: 60_000 });
  await expect(page.getByRole('contentinfo')).toContainText('10 of 10 connections');
  // The past that was loaded holds the vessels too, which a layout describes.
  const found = (await (await page.request.get(`${server.url}/api/find?text=EX-1/Level`)).json()).found[0].id as string;
  const [from, to] = [90, 60].map((minutes) => new Date(Date.now() - minutes * 60_000).toISOString());
  const data = { tags: [found], from, to, parts: 1 };
  const ask = async () => (await page.request.post(`${server.url}/api/history/spans`, { headers: { origin: server.url }, data })).text();
  await expect.poll(ask, { timeout: 60_000 }).toMatch(/"count":\[?[1-9]/);
});

test('a value is checked, confirmed, written and read back', async () => {
  await part('Cards');
  await page.getByRole('region', { name: 'EX-1' }).getByRole('button', { name: 'Fill setpoint', exact: true }).click();
  await inspector().getByLabel('New value, %').fill('140');
  await inspector().getByRole('button', { name: 'Write…' }).click();
  await expect(inspector().getByText('It must lie between 20 and 95 %.')).toBeVisible();
  await expect(inspector().getByLabel('New value, %')).toHaveValue('140');
  await inspector().getByLabel('New value, %').fill('61.5');
  await page.keyboard.press('Enter');
  await page.getByRole('alertdialog').getByRole('button', { name: 'Write 61.5 %' }).click();
  await expect(inspector().getByText('Written; the device now holds 61.5 %.')).toBeVisible();
  await desk('Journal');
  await page.getByRole('button', { name: /^Wrote 61\.5 % to .*Fill setpoint/ }).click();
  await expect(page.getByText(/before 74, asked for 61\.5, read back 61\.5/)).toBeVisible();
});

test('a trend is zoomed, moved, read and brought back to the present', async () => {
  await desk('Explore');
  await page.getByLabel('Add a tag').fill('EX-1/Level');
  await page.keyboard.press('Enter');
  const plot = page.getByTestId('trend').locator('.u-over');
  await expect(plot).toBeVisible();
  await expect(page.getByText('Live, last 15 min')).toBeVisible();
  await plot.hover({ position: { x: 300, y: 100 } });
  await page.mouse.wheel(0, -120);
  await expect(page).toHaveURL(/span=720/);
  const box = await plot.boundingBox();
  if (!box) throw new Error('the plot has a place');
  await page.mouse.move(box.x + 300, box.y + 100);
  await page.mouse.down();
  await page.mouse.move(box.x + 500, box.y + 100, { steps: 4 });
  await page.mouse.up();
  await expect(page.getByText(/^(\d{4}-\d\d-\d\d )?\d\d:\d\d:\d\d to /)).toBeVisible();
  await expect(page).toHaveURL(/end=\d+/);
  await page.getByRole('button', { name: 'Go live' }).click();
  await expect(page.getByText(/^Live, /)).toBeVisible();
  await plot.hover({ position: { x: box.width - 6, y: 100 } });
  await expect(page.getByTestId('cursor')).toHaveText(/\d\d:\d\d:\d\d.*Level\d+\.\d%/);
  // A second tag, typed and entered faster than the list answers, is the one that was typed.
  await page.getByLabel('Add a tag').fill('EX-2/Temperature');
  await page.keyboard.press('Enter');
  await expect(page.getByTestId('cursor')).toContainText('Temperature');
  await expect(page.getByRole('button', { name: 'EX-2 / Temperature', exact: true })).toBeVisible();
  // The same by keyboard alone.
  await page.getByRole('region', { name: /^Trend; arrows move/ }).focus();
  await page.keyboard.press('ArrowLeft');
  await expect(page.getByText(/^(\d{4}-\d\d-\d\d )?\d\d:\d\d:\d\d to /)).toBeVisible();
  await page.keyboard.press('End');
  await expect(page.getByText(/^Live, /)).toBeVisible();
});

test('two cursors are read against each other, and what is seen is taken along', async () => {
  await page.getByRole('button', { name: 'Cursor A' }).click();
  await page.getByRole('button', { name: 'Cursor B' }).click();
  const figures = page.getByRole('table', { name: 'Statistics of the visible span' });
  await expect(figures.getByRole('columnheader', { name: /^B − A \d+ min \d+ s$/ })).toBeVisible();
  await expect(figures.getByRole('row', { name: /^Level .*%$/ })).toContainText(/\d+ %/);
  const b = page.getByRole('slider', { name: 'Cursor B' });
  const before = await b.getAttribute('aria-valuetext');
  await b.focus();
  await page.keyboard.press('Shift+ArrowRight');
  await expect(b).not.toHaveAttribute('aria-valuetext', before ?? '');
  await expect(page).toHaveURL(/[?&]b=\d+/);
  await page.getByLabel('Compare with').selectOption('an hour earlier');
  await expect(page).toHaveURL(/earlier=3600/);
  const [csv] = await Promise.all([page.waitForEvent('download'), page.getByRole('button', { name: 'CSV' }).click()]);
  const text = readFileSync(await csv.path(), 'utf8');
  expect(text.split('\r\n')[0]).toBe('time,tag,value,unit,quality');
  expect(text).toMatch(/^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{9}Z,Brackmere Kelp Works\/Extraction\/EX-1\/Level,\d+(\.\d+)?,%,/m);
  const [png] = await Promise.all([page.waitForEvent('download'), page.getByRole('button', { name: 'PNG' }).click()]);
  expect(readFileSync(await png.path()).subarray(1, 4).toString()).toBe('PNG');
  await b.focus();
  await page.keyboard.press('Delete');
  await expect(b).toHaveCount(0);
});

test('a note stays on the trend, and the trend is kept under a name and opened again', async () => {
  const now = await page.getByRole('timer', { name: 'Plant time' }).textContent();
  await page.getByRole('button', { name: 'Note', exact: true }).click();
  await page.getByLabel('Time', { exact: true }).fill('half past two');
  await page.getByLabel('Text', { exact: true }).fill('The agitator was greased.');
  await page.getByRole('button', { name: 'Add note' }).click();
  await expect(page.getByText('Write a time as')).toBeVisible();
  await page.getByLabel('Time', { exact: true }).fill(now ?? '');
  await page.getByRole('button', { name: 'Add note' }).click();
  await expect(page.getByRole('list', { name: 'Notes' })).toContainText('The agitator was greased.');
  await page.getByRole('button', { name: 'Note 1: The agitator was greased.' }).focus();
  await page.keyboard.press('Enter');
  await expect(page.getByRole('listitem').filter({ hasText: 'The agitator was greased.' })).toBeFocused();

  const address = new URL(page.url()).searchParams;
  await page.getByRole('button', { name: 'Saved trends…' }).click();
  const name = page.getByLabel('Save this trend as');
  await name.fill('Grease');
  await name.press('Enter');
  await expect(page.getByRole('list', { name: 'Saved trends' })).toContainText('Grease');
  await name.fill('grease');
  await name.press('Enter');
  await expect(page.getByText('was already saved by Plant engineer')).toBeVisible();
  await page.getByRole('button', { name: 'Replace it' }).click();
  await expect(page.getByRole('list', { name: 'Saved trends' })).toContainText('grease');
  await page.keyboard.press('Escape');
  await page.goto(`${server.url}/explore`);
  await page.getByRole('button', { name: /^grease/ }).click();
  await expect(page).toHaveURL((url) => ['tags', 'span'].every((key) => url.searchParams.get(key) === address.get(key)));
  await expect(page.getByRole('list', { name: 'Notes' })).toContainText('The agitator was greased.');
  await page.getByRole('button', { name: 'Delete note 1' }).click();
  await expect(page.getByRole('list', { name: 'Notes' })).toHaveCount(0);
});

test('the plant is built, put in order, and a delete shows what hangs on it', async () => {
  await desk('Model');
  await place('Extraction').click();
  await part('Place');
  await page.getByLabel('New place').fill('EX-2');
  await page.getByRole('button', { name: 'Add place' }).click();
  await expect(page.getByText('There is already a place “EX-2” here.')).toBeVisible();
  await expect(page.getByLabel('New place')).toHaveValue('EX-2');
  await page.getByLabel('New place').fill('Settling vessel');
  await page.getByRole('button', { name: 'Add place' }).click();
  await place('Settling vessel').click();
  await page.getByRole('button', { name: 'Move up' }).click();
  await page.getByRole('button', { name: 'Move up' }).click();
  const names = page.getByRole('tree').getByRole('treeitem');
  await expect(names.nth(17)).toHaveText('Settling vessel');
  const form = page.getByRole('form', { name: 'Place' });
  await form.getByLabel('Name').fill('Settler');
  await form.getByRole('button', { name: 'Save place' }).click();
  await expect(names.nth(17)).toHaveText('Settler');
  await place('EX-2').click();
  await page.getByRole('button', { name: 'Delete place…' }).click();
  const dialog = page.getByRole('alertdialog');
  await expect(dialog.getByText('18 tags, 4 alarm rules are deleted too')).toBeVisible();
  await expect(dialog.getByText(/report “Shift summary” uses “/)).toBeVisible();
  await expect(dialog.getByRole('button', { name: 'Delete with its contents' })).toBeDisabled();
  await dialog.getByRole('button', { name: 'Cancel' }).click();
});

test('the sheet of tags is ordered, filtered and walked by keyboard alone', async () => {
  await page.getByRole('button', { name: 'Whole plant' }).click();
  await part('Tags');
  const sheet = page.getByRole('grid', { name: 'Tags' });
  const rows = sheet.getByRole('rowgroup').getByRole('row');
  await expect(page.getByRole('heading', { name: /^\d{3} tags$/ })).toBeVisible();
  await sheet.getByRole('button', { name: 'Tag', exact: true }).click();
  await expect(rows.first()).toContainText('Air pressure');
  await sheet.getByRole('button', { name: 'Tag', exact: true }).click();
  await expect(sheet.getByRole('columnheader', { name: 'Tag' })).toHaveAttribute('aria-sort', 'descending');
  await expect(rows.first()).not.toContainText('Air pressure');
  await page.getByRole('button', { name: 'Plant order' }).click();
  await page.getByLabel('Filter tags').fill('ex-2 level');
  await expect(page.getByRole('heading', { name: '1 tag', exact: true })).toBeVisible();
  await page.getByLabel('Filter tags').fill('');
  await expect(page.getByRole('heading', { name: /^\d{3} tags$/ })).toBeVisible();
  await sheet.focus();
  await page.keyboard.press('Control+ArrowDown');
  // The last row is the one in which a new tag begins.
  const end = sheet.locator(`[role="row"][aria-rowindex="${await sheet.getAttribute('aria-rowcount')}"]`);
  await expect(end).toContainText('New tag…');
  await page.keyboard.press('ArrowUp');
  const last = sheet.locator(`[role="row"][aria-rowindex="${Number(await sheet.getAttribute('aria-rowcount')) - 1}"]`);
  await expect(last).toContainText('Control system');
  await expect(sheet).toHaveAttribute('aria-activedescendant', (await last.getByRole('gridcell').first().getAttribute('id')) ?? '');
  const [inside, outside] = [await last.boundingBox(), await sheet.boundingBox()];
  expect((inside?.y ?? 0) + (inside?.height ?? 0)).toBeLessThanOrEqual((outside?.y ?? 0) + (outside?.height ?? 0) + 1);
  await page.keyboard.press('Enter');
  await expect(inspector()).toBeVisible();
  await inspector().getByRole('button', { name: 'Close inspector' }).click();
  await place('Extraction').click();
});

test('the newest revision is undone', async () => {
  await desk('Journal');
  await page.getByRole('button', { name: /^Undo revision/ }).click();
  const dialog = page.getByRole('alertdialog');
  await expect(dialog.getByText(/Renamed .*Settling vessel to Settler/)).toBeVisible();
  await dialog.getByRole('button', { name: 'Undo' }).click();
  await expect(place('Settling vessel')).toBeVisible();
});

test('what is wrong with a connection is told at its field or on the ladder', async () => {
  await desk('Connect');
  await page.getByRole('button', { name: 'Add connection' }).click();
  const form = page.getByRole('region', { name: 'New connection' });
  await form.getByLabel('Host').fill('http://10.0.4.21');
  await form.getByLabel('Port', { exact: true }).fill('5x');
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await expect(form.getByText('This must be a whole number from 0 to 65535.')).toBeVisible();
  await form.getByLabel('Port', { exact: true }).fill('1');
  await form.getByRole('button', { name: 'Add this connection' }).click();
  await expect(form.getByText('This is neither a name nor an address; leave out the protocol and the port.')).toBeVisible();
  await expect(form.getByLabel('Host')).toHaveValue('http://10.0.4.21');
  await form.getByLabel('Host').fill('127.0.0.1');
  await form.getByRole('button', { name: 'Test' }).click();
  const ladder = form.getByRole('list', { name: 'Test' });
  await expect(ladder.getByText('127.0.0.1 refuses connections on port 1.')).toBeVisible();
  await expect(ladder.getByText('Check the port, and that the server on the device is switched on.')).toBeVisible();
  await form.getByLabel('Port', { exact: true }).fill(String(server.controller));
  await form.getByLabel('Unit id').fill('7');
  await form.getByRole('button', { name: 'Test' }).click();
  await expect(ladder.getByText('Unit 7 does not answer, but unit 1 does.')).toBeVisible();
  await ladder.getByRole('button', { name: 'Use the unit that answers' }).click();
  await expect(form.getByLabel('Unit id')).toHaveValue('1');
  await form.getByRole('button', { name: 'Cancel' }).click();
});

test('registers are chosen by hand, with what they most likely hold', async () => {
  await desk('Connect');
  await page.getByRole('region', { name: 'Connection Extraction' }).getByRole('button', { name: /Extraction/ }).click();
  await page.getByLabel('From wire address').fill('40');
  await page.getByRole('button', { name: 'Choose holding 40' }).click();
  await page.getByRole('button', { name: 'Choose holding 44' }).click({ modifiers: ['Shift'] });
  const intake = page.getByRole('form', { name: 'New tags' });
  await expect(intake.getByRole('heading')).toHaveText('4 new tags');
  await expect(intake.getByLabel('Type of holding 42')).toHaveValue('f32');
  await expect(intake.getByText('holding 42–43')).toBeVisible();
  await expect(intake.getByText('Name of holding 40 and 3 more: no name')).toBeVisible();
  await page.getByRole('button', { name: 'Remove holding 41', exact: true }).click();
  await expect(intake.getByRole('heading')).toHaveText('3 new tags');
  // The intake is a draft that the next test would meet.
  for (const register of [40, 42, 44]) await page.getByRole('button', { name: `Remove holding ${register}`, exact: true }).click();
  await expect(intake).toHaveCount(0);
});

test('the plant column and the desks work by keyboard alone', async () => {
  await desk('Board');
  await place('Brackmere').click();
  const tree = page.getByRole('tree', { name: 'Plant' });
  const reached = async () => (await tree.getAttribute('aria-activedescendant')) === (await place('EX-1').getAttribute('id'));
  for (let n = 0; n < 20 && !(await reached()); n += 1) {
    await page.keyboard.press('ArrowDown');
  }
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('EX-1');
  // Closes it, goes up, and closes the area.
  for (let n = 0; n < 3; n += 1) await page.keyboard.press('ArrowLeft');
  await expect(place('EX-1')).toHaveCount(0);
  await page.keyboard.press('ArrowRight');
  await expect(place('EX-1')).toBeVisible();
  const level = page.getByRole('region', { name: 'EX-1' }).getByRole('button', { name: 'Level', exact: true });
  await level.focus();
  await page.keyboard.press('Enter');
  await expect(inspector().getByRole('heading', { name: 'Level' })).toBeVisible();
  await inspector().getByRole('button', { name: 'Close inspector' }).focus();
  await page.keyboard.press('Escape');
  await expect(inspector()).toHaveCount(0);
});

test('anything is found by a few letters, and taken by keyboard alone', async () => {
  await page.keyboard.press('Control+k');
  const find = page.getByRole('combobox', { name: 'Find anything' });
  await find.fill('ex-3 temp');
  await expect(page.getByRole('option').first()).toContainText('Temperature');
  await page.keyboard.press('Enter');
  await expect(inspector().getByRole('heading', { name: 'Temperature' })).toBeVisible();
  await inspector().getByRole('button', { name: 'Close inspector' }).click();
  await page.keyboard.press('Control+k');
  await find.fill('alarms');
  await page.keyboard.press('Enter');
  await expect(page.getByRole('heading', { level: 1 })).toHaveText('Alarms');
  await page.keyboard.press('Alt+1');
  await expect(page).toHaveURL(/board/);
  await page.keyboard.press('?');
  await expect(page.getByRole('dialog', { name: 'Keyboard shortcuts' })).toContainText('Back and forward by a quarter of the window');
  await page.keyboard.press('Escape');
});

test('an earlier revision is undone, what was touched since is listed to choose, and all goes back', async () => {
  const rename = async (from: string, to: string) => {
    await desk('Model');
    await place(from).click();
    await part('Place');
    const form = page.getByRole('form', { name: 'Place' });
    await form.getByLabel('Name').fill(to);
    await form.getByRole('button', { name: 'Save place' }).click();
    await expect(place(to)).toBeVisible();
  };
  await rename('EX-4', 'EX-4 north');
  await rename('EX-4 north', 'EX-4 south');
  await desk('Journal');
  await page.getByRole('button', { name: /EX-4 to EX-4 north · revision/ }).click();
  await page.getByRole('button', { name: /^Undo revision \d+…/ }).click();
  const dialog = page.getByRole('alertdialog');
  await expect(dialog.getByText('now "EX-4 south"; ticked, it becomes "EX-4"')).toBeVisible();
  await expect(dialog.getByRole('button', { name: 'Undo' })).toBeDisabled();
  await dialog.getByRole('checkbox', { name: /EX-4 south, name/ }).click();
  await dialog.getByRole('button', { name: 'Undo' }).click();
  await expect(place("^EX-4(,|$)")).toBeVisible();
  await page.getByRole('button', { name: 'Compare revisions' }).click();
  const compare = page.getByRole('region', { name: 'Compare revisions' });
  await expect(compare.getByText(/^1 item differs between/)).toBeVisible();
  await expect(compare.getByText('name "EX-4 south" → "EX-4"')).toBeVisible();
  await compare.getByRole('button', { name: 'Close' }).click();
  // The opened entry stays open while the list grows above it.
  await page.getByRole('button', { name: 'Go back to here…' }).click();
  await expect(dialog.getByText('name "EX-4 north" → "EX-4"')).toBeVisible();
  await dialog.getByRole('button', { name: 'Go back' }).click();
  await expect(place('EX-4 north')).toBeVisible();
});

test('paper shows the desk alone, with its names, in the colours of the day', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await page.getByRole('button', { name: 'Whole plant' }).click();
  await page.getByRole('button', { name: NAME, exact: true }).click();
  await page.getByRole('menuitemradio', { name: 'Night theme' }).click();
  await part('Cards');
  const card = page.getByRole('region', { name: 'EX-1' });
  const back = () => card.evaluate((node) => getComputedStyle(node).backgroundColor);
  const night = await back();
  await page.emulateMedia({ media: 'print' });
  expect(await back()).not.toBe(night);
  await expect(card.getByText('Level', { exact: true })).toBeVisible();
  await expect(page.getByRole('navigation')).toBeHidden();
  await expect(page.getByRole('tree', { name: 'Plant' })).toBeHidden();
  await page.emulateMedia({ media: 'screen' });
  expect(await back()).toBe(night);
  await page.getByRole('button', { name: NAME, exact: true }).click();
  await page.getByRole('menuitemradio', { name: 'Day theme' }).click();
});

test('a report leaves as PDF with the same numbers as CSV', async () => {
  await desk('Reports');
  await page.getByRole('button', { name: /^Vessel run/ }).click();
  await page.getByRole('button', { name: 'Create edition' }).click();
  // Dispatches make editions of the same report meanwhile.
  const editions = page.getByRole('region', { name: 'Editions' }).getByRole('listitem').filter({ hasText: NAME }).first();
  const take = async (trigger: Locator) => {
    const [file] = await Promise.all([page.waitForEvent('download'), trigger.click()]);
    return readFileSync(await file.path());
  };
  const csv = (await take(editions.getByRole('link', { name: 'CSV' }))).toString();
  const pdf = await take(editions.getByRole('button', { name: 'PDF' }));
  const again = await take(editions.getByRole('button', { name: 'PDF' }));
  expect(again.equals(pdf)).toBe(true);
  const document = await getDocument({ data: new Uint8Array(pdf), verbosity: 0 }).promise;
  let text = '';
  for (let n = 1; n <= document.numPages; n += 1) {
    const content = await (await document.getPage(n)).getTextContent();
    text += content.items.map((item) => ('str' in item ? item.str : '')).join(' ');
  }
  expect(text).toContain('Vessel run');
  expect(text).toContain(`page 1 of ${document.numPages}`);
  const row = csv.split('\r\n').find((line) => /,Current,/.test(line)) ?? '';
  const numbers = row.split(',').slice(3, 8);
  expect(numbers.length).toBe(5);
  for (const number of numbers) expect(text).toContain(number);
});

test('a period is typed or picked, the same for a trend and for a report', async () => {
  await desk('Explore');
  const period = () => page.getByRole('button', { name: /^Period: / });
  await period().click();
  const typed = page.getByLabel('Period in words');
  await expect(typed).toBeFocused();
  await typed.fill('2026-02-30');
  await expect(page.getByText(/^Write it like/)).toBeVisible();
  // What is half typed outlasts a click elsewhere.
  await page.keyboard.press('Escape');
  await period().click();
  await expect(typed).toHaveValue('2026-02-30');
  await typed.fill('2026-11-20 06:00 to 14:00');
  await expect(page.getByText('2026-11-20 06:00:00 to 14:00:00. Enter shows it.')).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(page.getByText('2026-11-20 06:00:00 to 14:00:00', { exact: true })).toBeVisible();
  await period().click();
  await page.getByRole('button', { name: 'last 15 min', exact: true }).click();
  await expect(page.getByText('Live, last 15 min')).toBeVisible();
  await desk('Reports');
  await page.getByRole('button', { name: /^Vessel run/ }).click();
  await period().click();
  await page.getByLabel('From', { exact: true }).fill('2026-11-20T06:00:00');
  await page.getByLabel('To', { exact: true }).fill('2026-11-20T05:00:00');
  await expect(page.getByText('The end must lie after the start.')).toBeVisible();
  await page.getByLabel('To', { exact: true }).fill('2026-11-20T07:00:00');
  await page.getByRole('button', { name: 'Show this period' }).click();
  await expect(page.getByText('Preview: 2026-11-20 06:00:00 to 07:00:00')).toBeVisible();
  await page.getByRole('button', { name: 'Create edition' }).click();
  const editions = page.getByRole('region', { name: 'Editions' });
  await expect(editions.getByText('2026-11-20 06:00:00 to 2026-11-20 07:00:00', { exact: true })).toBeVisible();
  await page.getByRole('button', { name: 'The report’s own period' }).click();
  await expect(page.getByText(/^Preview: last /)).toBeVisible();
});

test('a sample label has the size of its label and what the tags were', async () => {
  await desk('Reports');
  await page.getByRole('button', { name: /^Sample label EX-1/ }).click();
  const preview = page.frameLocator('iframe[title="Report preview"]');
  await expect(preview.getByText(/^KX-2611-\d{4}$/)).toBeVisible();
  await page.getByRole('button', { name: 'Create edition' }).click();
  const editions = page.getByRole('region', { name: 'Editions' });
  const [file] = await Promise.all([page.waitForEvent('download'), editions.getByRole('button', { name: 'PDF' }).click()]);
  const document = await getDocument({ data: new Uint8Array(readFileSync(await file.path())), verbosity: 0 }).promise;
  const sheet = await document.getPage(1);
  // 80 by 50 mm in points of 1/72 inch.
  expect(sheet.view.map(Math.round)).toEqual([0, 0, 227, 142]);
  const text = (await sheet.getTextContent()).items.map((item) => ('str' in item ? item.str : '')).join(' ');
  expect(text).toMatch(/Sample label EX-1.*KX-2611-\d{4}.*\d+\.\d °C/s);
  expect(document.numPages).toBe(1);
});

test('a fault is ordered, found out, told and over', async () => {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('region', { name: 'Controller Wash' }).getByRole('button', { name: 'Cut the cable' }).click();
  await expect(page.getByRole('region', { name: 'Active faults' })).toContainText('Cable of Wash cut');
  await expect(page.getByRole('contentinfo')).toContainText('9 of 10 connections');
  await expect(page.getByRole('listitem').filter({ hasText: /^Wash: / })).toBeVisible();
  // The tags of the two tanks, and hopper, conveyor, the pumps and the drain valves as one each.
  await expect(place('Landing')).toContainText('22');
  await page.getByRole('button', { name: 'End all' }).click();
  await expect(page.getByRole('listitem').filter({ hasText: 'Wash answers again' })).toBeVisible({ timeout: 30_000 });
  await expect(page.getByRole('contentinfo')).toContainText('10 of 10 connections', { timeout: 30_000 });
});

test('the server goes away and comes back without a reload', async () => {
  await desk('Board');
  await place('Brackmere').click();
  const context = page.context();
  await context.setOffline(true);
  await server.restart();
  await context.setOffline(false);
  await expect(page.getByRole('contentinfo')).toContainText('10 of 10 connections', { timeout: 30_000 });
  const level = page.getByRole('region', { name: 'EX-1' }).getByRole('listitem').filter({ hasText: 'Level' });
  const before = await level.textContent();
  await expect(level).not.toHaveText(before ?? '', { timeout: 60_000 });
});

const DESKS = ['Board', 'Connect', 'Model', 'Alarms', 'Explore', 'Reports', 'Journal'];
for (const [theme, name] of ['Day', 'Night'].flatMap((t) => DESKS.map((d) => [t, d] as const))) {
  test(`${name} meets WCAG AA by ${theme.toLowerCase()}`, async () => {
    await page.getByRole('button', { name: NAME, exact: true }).click();
    await page.getByRole('menuitemradio', { name: `${theme} theme` }).click();
    await expect(page.locator('html')).toHaveAttribute('data-theme', theme.toLowerCase());
    await desk(name);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    await accessibility(page, theme === 'Night' ? 'dark' : 'light');
  });
}

test('a tag is dragged from the sheet into the field of a setpoint', async () => {
  await page.goto(`${server.url}/model`);
  await page.getByPlaceholder('Words of the path…').fill('wash tank 1 level');
  await expect(page.getByRole('grid').getByText('Level setpoint')).toBeVisible();
  await page.getByRole('gridcell', { name: 'Level', exact: true }).click();
  const setpoint = page.getByRole('combobox', { name: 'Setpoint' });
  await expect(setpoint).toHaveValue(/Level setpoint/);
  await page.getByRole('button', { name: 'Clear Setpoint' }).click();
  await expect(setpoint).toHaveValue('');
  await page.getByRole('row', { name: /Level setpoint/ }).locator('[draggable=true]').dragTo(setpoint);
  await expect(setpoint).toHaveValue(/Level setpoint/);
  await page.getByRole('button', { name: 'Close inspector' }).click();
});

test('a first visit loads at most 250 kB of scripts and styles', async ({ browser }) => {
  await page.goto(`${server.url}/board`);
  const fresh = await browser.newContext({ storageState: await page.context().storageState() });
  const visit = await fresh.newPage();
  const sizes: Promise<number>[] = [];
  visit.on('requestfinished', (request) => {
    if (/\.(js|css)$/.test(request.url())) sizes.push(request.sizes().then((s) => s.responseBodySize));
  });
  await visit.goto(`${server.url}/board`);
  await expect(visit.locator('main section').first()).toBeVisible();
  await visit.waitForLoadState('networkidle');
  const sum = (await Promise.all(sizes)).reduce((a, b) => a + b, 0);
  expect(sum).toBeGreaterThan(50_000);
  expect(sum).toBeLessThan(250_000);
  await fresh.close();
});

test('the page itself never scrolls, on any desk and with the inspector open', async () => {
  const scrolls = () =>
    page.evaluate(() => {
      const { scrollHeight, clientHeight, scrollWidth, clientWidth } = document.documentElement;
      return [scrollHeight - clientHeight, scrollWidth - clientWidth];
    });
  await desk('Board');
  await place('EX-1').click();
  await page.getByRole('region', { name: 'EX-1' }).getByRole('button', { name: 'Level', exact: true }).click();
  await expect(inspector().getByRole('heading', { name: 'Level' })).toBeVisible();
  await expect(inspector().getByRole('heading', { name: 'Settings' })).toBeVisible();
  const tag = new URL(page.url()).searchParams.get('tag');
  expect(await scrolls()).toEqual([0, 0]);
  for (const name of ['connect', 'model', 'alarms', 'explore', 'reports', 'journal', 'system', 'board']) {
    await page.goto(`${server.url}/${name}?tag=${tag}`);
    await expect(page.getByRole('heading', { level: 1 })).toBeVisible();
    await expect(inspector().getByRole('heading', { name: 'Settings' })).toBeVisible();
    expect(await scrolls(), name).toEqual([0, 0]);
  }
  await inspector().getByRole('button', { name: 'Close inspector' }).click();
});

test('a tag is found by any words of its path, and what is typed outlasts a reload', async () => {
  await desk('Explore');
  await page.getByRole('combobox', { name: 'Add a tag' }).fill('temperature ex-2');
  await expect(page.getByRole('option', { name: /^Temperature .*EX-2/ }).first()).toBeVisible();
  await page.keyboard.press('Escape');
  await desk('Connect');
  await page.getByRole('region', { name: 'Connection Extraction' }).getByRole('button', { name: /Extraction/ }).click();
  await page.getByRole('button', { name: 'Paste a list' }).click();
  await page.getByLabel(/^Paste rows/).fill('40101\tf32 CDAB\tP065\n40103\tf32 xyz\tP066\n40105\tbool 3\tP067');
  await page.getByRole('button', { name: 'Add 3 rows' }).click();
  const intake = page.getByRole('form', { name: 'New tags' });
  await intake.getByLabel('Place for all').fill('Brackmere Kelp Works / Landing');
  // Every fault of the list is told at once, at its cell.
  await expect(intake.getByText('2 errors.')).toBeVisible();
  await expect(intake.getByText(/“xyz” is not a byte order/).first()).toBeVisible();
  // To correct one pasted name changes no other.
  await intake.getByLabel('Name of 40101').fill('P070');
  await page.keyboard.press('Tab');
  await expect(intake.getByLabel('Name of 40103')).toHaveValue('P066');
  await expect(intake.getByRole('region', { name: 'Pattern' })).toHaveCount(0);
  await desk('Journal');
  await page.reload();
  await desk('Connect');
  await page.getByRole('region', { name: 'Connection Extraction' }).getByRole('button', { name: /Extraction/ }).click();
  await expect(intake.getByLabel('Name of 40101')).toHaveValue('P070');
  await intake.getByLabel('Name of 40101').fill('P071');
  await page.keyboard.press('Control+z');
  await expect(intake.getByLabel('Name of 40101')).toHaveValue('P070');
  await intake.getByLabel('Type of 40103').fill('f32 cdab');
  await intake.getByLabel('Type of 40105').fill('bool bit 3');
  await expect(intake.getByText('No errors.')).toBeVisible();
  for (const row of ['40101', '40103', '40105']) await intake.getByRole('button', { name: `Remove row ${row}` }).click();
  await expect(intake).toHaveCount(0);
});
